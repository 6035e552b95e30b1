import { lstat, readdir } from 'node:fs/promises';
import { join } from 'node:path';
import { HodError, systemErrorCode } from '../core/errors';
import { fileBytes, namesTold, naming, unreadable, type LayoutFiles } from './files';

/** The files of an image layout that is a folder. */
export function folderFiles(folder: string): LayoutFiles {
  /** Folders below it that were looked at. */
  const folders = new Map<string, Promise<boolean>>();
  const isFolder = (parts: string[]): Promise<boolean> => {
    const name = join(...parts);
    const looking = folders.get(name) ?? statUnlinked(folder, parts).then((found) => found?.isDirectory() === true);
    folders.set(name, looking);
    return looking;
  };
  return {
    label: folder,
    names: async () => (await naming(folder, readdir(folder))).sort().slice(0, namesTold),
    async size(name) {
      const parts = name.split('/');
      for (let count = 1; count < parts.length; count += 1) {
        if (!(await isFolder(parts.slice(0, count)))) {
          return undefined;
        }
      }
      const file = await statUnlinked(folder, parts);
      if (file?.isFile() === false && !file.isDirectory()) {
        throw unreadable(join(folder, name), new Error('it is a pipe or a device'));
      }
      return file?.isFile() === true ? file.size : undefined;
    },
    open: (name, start) => fileBytes(join(folder, name), { start }),
  };
}

async function statUnlinked(folder: string, parts: string[]) {
  const path = join(folder, ...parts);
  try {
    const found = await lstat(path);
    if (found.isSymbolicLink()) {
      throw new HodError('layout-corrupt', {
        what: 'an image layout holds a link',
        object: path,
        why: 'what a link leads to can change while it is read, or lie outside the layout',
        next: 'write the layout with plain files',
      });
    }
    return found;
  } catch (error) {
    if (error instanceof HodError) {
      throw error;
    }
    const code = systemErrorCode(error);
    if (code === 'ENOENT' || code === 'ENOTDIR') {
      return undefined;
    }
    throw unreadable(path, error);
  }
}
