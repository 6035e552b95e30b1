/** The parts of a path within an image. What would lead out of its root stays in it. */
export function nameParts(path: string): string[] {
  const parts: string[] = [];
  for (const part of path.split('/')) {
    if (part === '..') {
      parts.pop();
    } else if (part !== '.' && part !== '') {
      parts.push(part);
    }
  }
  return parts;
}

/** Whether a name leads out of the root of an image, or is meant to. */
export function leadsOut(path: string): boolean {
  let depth = 0;
  for (const part of path.split('/')) {
    depth += part === '..' ? -1 : part === '.' || part === '' ? 0 : 1;
    if (depth < 0) {
      return true;
    }
  }
  return false;
}
