import { existsSync } from 'node:fs';
import { readdir } from 'node:fs/promises';
import { join } from 'node:path';

/** Where builders write to, as a rule. */
const usualFolders = ['out', 'output', 'build', 'dist', 'target', 'artifacts', 'images', '.'];
/** Files and folders by which a CI is told what to run. */
const ciFiles = [
  '.gitlab-ci.yml',
  '.github/workflows',
  'Jenkinsfile',
  'azure-pipelines.yml',
  'bitbucket-pipelines.yml',
  'buildspec.yml',
  'cloudbuild.yaml',
  '.circleci',
  '.drone.yml',
  '.woodpecker.yml',
  '.woodpecker',
  '.tekton',
  '.buildkite',
  '.teamcity',
];
/** So many things of a folder are looked at. */
const most = 200;

/** Paths below a folder where a build output may be, relative to it: archives by their names, folders by what they hold. */
export async function likelyOutputs(folder: string): Promise<string[]> {
  const found: string[] = [];
  for (const usual of usualFolders) {
    const entries = await readdir(join(folder, usual), { withFileTypes: true }).catch(() => []);
    const paths = entries
      .sort((a, b) => (a.name < b.name ? -1 : 1))
      .slice(0, most)
      .filter((entry) =>
        entry.isDirectory() ? holdsImages(join(folder, usual, entry.name)) : /\.(tar|tgz|tar\.gz)$/.test(entry.name),
      )
      .map(({ name }) => join(usual, name));
    found.push(...(usual !== '.' && holdsImages(join(folder, usual)) ? [usual] : []), ...paths);
  }
  return [...new Set(found)];
}

/** Whether something tells a CI what to run. */
export function hasCiFiles(folder: string): boolean {
  return ciFiles.some((name) => existsSync(join(folder, name)));
}

function holdsImages(folder: string): boolean {
  return ['oci-layout', 'manifest.json'].some((name) => existsSync(join(folder, name)));
}
