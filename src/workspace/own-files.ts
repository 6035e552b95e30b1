import { readdir, rm, stat } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join, relative, sep } from 'node:path';
import type { FoundFiles } from '../core/tidy/own-files';
import { isAlive } from '../system/processes';
import { runOfTemporary } from '../system/temporary-folder';

/** Reads the files in a folder of Hod's. A file that is removed meanwhile is left out; a folder that does not exist is empty. */
export async function readOwnFiles({ of, folder }: Pick<FoundFiles, 'of' | 'folder'>): Promise<FoundFiles[]> {
  const all = await readdir(folder, { withFileTypes: true, recursive: true }).catch(() => []);
  const files = all
    .filter((each) => each.isFile() && each.name !== '.gitignore')
    .map((each) => join(each.parentPath, each.name));
  const found = await Promise.all(
    files.map(async (file) => {
      const read = await stat(file).catch(() => undefined);
      const path = relative(folder, file).split(sep).join('/');
      return read === undefined ? [] : [{ of, folder, path, files: 1, bytes: read.size, written: read.mtimeMs }];
    }),
  );
  return found.flat();
}

/** Reads the temporary folders of runs that have ended, where this user owns them. */
export async function readTemporaryFolders(): Promise<FoundFiles[]> {
  const folder = tmpdir();
  const names = await readdir(folder).catch(() => []);
  const found = await Promise.all(
    names.map(async (path) => {
      const run = runOfTemporary(path);
      const read =
        run === undefined || isAlive(run) ? undefined : await stat(join(folder, path)).catch(() => undefined);
      if (read?.isDirectory() !== true || read.uid !== process.getuid?.()) {
        return [];
      }
      const below = await readOwnFiles({ of: 'temporary', folder: join(folder, path) });
      const bytes = below.reduce((sum, each) => sum + each.bytes, 0);
      const written = Math.max(read.mtimeMs, ...below.map((each) => each.written));
      return [{ of: 'temporary' as const, folder, path, files: below.length, bytes, written }];
    }),
  );
  return found.flat();
}

/** Removes files of Hod's. */
export async function removeOwnFiles(files: readonly FoundFiles[]): Promise<void> {
  await Promise.all(files.map(({ folder, path }) => rm(join(folder, path), { recursive: true, force: true })));
}
