import { readdir } from 'node:fs/promises';
import { join } from 'node:path';
import picomatch from 'picomatch';
import { HodError } from '../core/errors';

/** Folders that hold no products of ours. */
const passedBy = new Set(['node_modules', '.git', '.hod']);
/** So many folders deep is looked for `**`. */
const depthLimit = 16;

/** Whether the name of a configuration stands for several. */
export function isPattern(config: string): boolean {
  return picomatch.scan(config).isGlob;
}

/** The configurations that a pattern matches, in the order of their names. Throws `config-missing` where there is none. */
export async function configsMatching(pattern: string): Promise<string[]> {
  const { base, glob } = picomatch.scan(pattern);
  const matches = picomatch(glob);
  const depth = glob.includes('**') ? depthLimit : glob.split('/').length;
  const found: string[] = [];
  const search = async (below: string, level: number): Promise<void> => {
    const entries = await readdir(join(base, below), { withFileTypes: true }).catch(() => []);
    for (const entry of entries) {
      const path = below === '' ? entry.name : `${below}/${entry.name}`;
      if (entry.isDirectory() && level < depth && !passedBy.has(entry.name)) {
        await search(path, level + 1);
      } else if (entry.isFile() && matches(path)) {
        found.push(join(base, path));
      }
    }
  };
  await search('', 1);
  if (found.length === 0) {
    throw new HodError('config-missing', {
      what: 'there is no configuration here',
      object: pattern,
      why: 'no file matches this pattern',
      next: "correct it, and put it in quotes, so that Hod and not the shell expands it: -c 'services/*/hod.yaml'",
    });
  }
  return found.sort();
}
