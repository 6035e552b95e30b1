/** Returns a repository with `{image}` for the name of its component, as hod.yaml may have it. */
export function repositoryPattern(repository: string, component: string): string {
  return repository
    .split('/')
    .map((part, at) => (at > 0 && part === component ? '{image}' : part))
    .join('/');
}
