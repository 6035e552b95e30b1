import { lstat, readdir, readlink } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { HodError, systemErrorCode } from '../core/errors';
import { fileAt, fileBytes, linkLimit, namesTold, nameWithin, readable, unreadable, type OutputFiles } from './files';

/** The files of a build output that is a folder. A link to a file within it is that file. */
export function folderFiles(folder: string): OutputFiles {
  /** Folders below it that were looked at. */
  const folders = new Map<string, Promise<boolean>>();
  /** Where the bytes of a name are, for a name that is a link. */
  const linked = new Map<string, string>();
  const isFolder = (name: string): Promise<boolean> => {
    const looking = folders.get(name) ?? statUnlinked(folder, name).then((found) => found?.isDirectory() === true);
    folders.set(name, looking);
    return looking;
  };
  const find = async (name: string, links = 0): Promise<{ name: string; size: number } | undefined> => {
    const parts = name.split('/');
    for (let count = 1; count < parts.length; count += 1) {
      if (!(await isFolder(parts.slice(0, count).join('/')))) {
        return undefined;
      }
    }
    const path = join(folder, name);
    const file = await statQuietly(path);
    if (file?.isSymbolicLink() === true) {
      const target = await readable(path, readlink(path));
      const within = target.startsWith('/') ? undefined : nameWithin(join(dirname(name), target));
      if (within === undefined || links === linkLimit) {
        throw leadsOutside(path);
      }
      return find(within, links + 1);
    }
    if (file?.isFile() === false && !file.isDirectory()) {
      throw unreadable(path, new Error('it is a pipe or a device'));
    }
    return file?.isFile() === true ? { name, size: file.size } : undefined;
  };
  return {
    label: folder,
    names: async () => (await readable(folder, readdir(folder))).sort().slice(0, namesTold),
    async size(name) {
      const found = await find(name);
      if (found !== undefined) {
        linked.set(name, found.name);
      }
      return found?.size;
    },
    open: (name, start) => fileBytes(fileAt(join(folder, linked.get(name) ?? name)), { start }),
  };
}

async function statUnlinked(folder: string, name: string) {
  const path = join(folder, name);
  const found = await statQuietly(path);
  if (found?.isSymbolicLink() === true) {
    throw leadsOutside(path);
  }
  return found;
}

/** What is at a path; undefined where there is nothing. */
async function statQuietly(path: string) {
  try {
    return await lstat(path);
  } catch (error) {
    const code = systemErrorCode(error);
    if (code === 'ENOENT' || code === 'ENOTDIR') {
      return undefined;
    }
    throw unreadable(path, error);
  }
}

function leadsOutside(path: string): HodError {
  return new HodError('layout-corrupt', {
    what: 'a build output holds a link that leads away',
    object: path,
    why: 'what a link leads to can change while it is read, or lie outside',
    next: 'write plain files there; links between files of one output are followed',
  });
}
