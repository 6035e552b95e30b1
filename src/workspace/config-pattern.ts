import { join } from 'node:path';
import picomatch from 'picomatch';
import { HodError } from '../core/errors';

/** Folders that hold no products of ours. */
const passedBy = ['**/node_modules/**', '**/.git/**', '**/.hod/**'];
/** So many folders deep is looked for `**`. */
const depthLimit = 16;

/** Whether the name of a configuration stands for several. */
export function isPattern(config: string): boolean {
  return picomatch.scan(config).isGlob;
}

/** The configurations that a pattern matches, in the order of their names. Throws `config-missing` where there is none. */
export async function configsMatching(pattern: string): Promise<string[]> {
  // Only who names a pattern waits for it to be loaded.
  const { glob } = await import('tinyglobby');
  // Looked for from where the pattern begins: a pattern that leads up may lead back to this folder.
  const { base, glob: below } = picomatch.scan(pattern);
  const names = await glob(below, {
    cwd: base,
    ignore: passedBy,
    deep: depthLimit,
    expandDirectories: false,
    followSymbolicLinks: false,
  });
  const found = names.map((name) => join(base, name)).sort();
  if (found.length === 0) {
    throw new HodError('config-missing', {
      what: 'there is no configuration here',
      object: pattern,
      why: 'no file matches this pattern',
      next: "correct it, and put it in quotes, so that Hod and not the shell expands it: -c 'services/*/hod.yaml'",
    });
  }
  return found;
}
