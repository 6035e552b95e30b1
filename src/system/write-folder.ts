import * as fs from 'node:fs/promises';
import { basename, dirname, join, resolve } from 'node:path';
import { systemErrorCode } from '../core/errors';
import { withLock } from './lock';
import { syncFolder, writeFile } from './write-file';

/** Takes the files of a folder that is written. */
export interface FolderWriter {
  /** Writes a file, and the folders that its name leads through. @returns Its bytes. */
  file(name: string, content: AsyncIterable<Uint8Array>, options: { readonly executable: boolean }): Promise<number>;
  folder(name: string): Promise<void>;
}

/** A folder was to be written where something else is. */
export class FolderInUse extends Error {}

/**
 * Writes a folder of files, all or nothing: under another name, and it takes its own when all is there. A folder that holds just
 * these files already stays as it is.
 *
 * @param work Writes the files. Names are relative and lead nowhere else, and none comes twice.
 * @param keep Whether the folder is to stay; else all is tried, and removed again.
 * @returns What the work answered, and whether the folder was there already.
 * @throws {@link FolderInUse}; the error of the system, and of the work
 */
export async function writeFolder<T>(
  path: string,
  work: (writer: FolderWriter) => Promise<T>,
  { keep }: { readonly keep: boolean },
): Promise<{ readonly answer: T; readonly isUnchanged: boolean }> {
  const target = resolve(path);
  const parent = dirname(target);
  const made = await fs.mkdir(parent, { recursive: true });
  const beside = join(parent, `.${basename(target).slice(0, 100)}.part`);
  return withLock(beside, async () => {
    try {
      // What a run that was killed left behind.
      await fs.rm(beside, { recursive: true, force: true });
      await fs.mkdir(beside);
      const answer = await work(writerInto(beside));
      const isUnchanged = await isThere(target, beside);
      if (keep && !isUnchanged) {
        await fs.rename(beside, target);
        await syncFolder(parent);
      }
      return { answer, isUnchanged };
    } finally {
      await fs.rm(beside, { recursive: true, force: true });
    }
  }).finally(() => (keep || made === undefined ? undefined : fs.rm(made, { recursive: true, force: true })));
}

function writerInto(root: string): FolderWriter {
  return {
    async file(name, content, { executable }) {
      const path = join(root, name);
      await fs.mkdir(dirname(path), { recursive: true });
      await writeFile(path, content, { isNew: true });
      const { mode, size } = await fs.stat(path);
      if (executable) {
        // Everyone who may read the file may run the file.
        await fs.chmod(path, (mode & 0o777) | ((mode & 0o444) >> 2));
      }
      return size;
    },
    async folder(name) {
      await fs.mkdir(join(root, name), { recursive: true });
    },
  };
}

/** Whether a folder holds the same files as another already. Throws {@link FolderInUse} where it holds anything else. */
async function isThere(path: string, other: string): Promise<boolean> {
  const found = await fs.lstat(path).catch((error: unknown) => {
    if (systemErrorCode(error) === 'ENOENT') {
      return undefined;
    }
    throw error;
  });
  if (found === undefined) {
    return false;
  }
  if (!found.isDirectory()) {
    throw new FolderInUse('it is no folder');
  }
  const [names, wanted] = await Promise.all([namesIn(path), namesIn(other)]);
  if (names.length === 0) {
    return false;
  }
  const isOther = names.find((name) => !wanted.includes(name)) ?? wanted.find((name) => !names.includes(name));
  if (isOther !== undefined) {
    throw new FolderInUse(names.includes(isOther) ? `it holds ${isOther}` : `it lacks ${isOther}`);
  }
  for (const name of names) {
    if (!(await isSame(join(path, name), join(other, name)))) {
      throw new FolderInUse(`${name} is another one there`);
    }
  }
  return true;
}

async function namesIn(root: string): Promise<string[]> {
  return (await fs.readdir(root, { recursive: true })).sort();
}

async function isSame(one: string, other: string): Promise<boolean> {
  const [a, b] = await Promise.all([fs.lstat(one), fs.lstat(other)]);
  if (a.isDirectory() && b.isDirectory()) {
    return true;
  }
  if (!a.isFile() || !b.isFile() || a.size !== b.size || (a.mode & 0o100) !== (b.mode & 0o100)) {
    return false;
  }
  const [left, right] = [await fs.open(one), await fs.open(other)];
  try {
    const [first, second] = [Buffer.allocUnsafe(pieceSize), Buffer.allocUnsafe(pieceSize)];
    for (let at = 0; at < a.size; at += pieceSize) {
      const length = Math.min(pieceSize, a.size - at);
      await Promise.all([left.read(first, 0, length, at), right.read(second, 0, length, at)]);
      if (!first.subarray(0, length).equals(second.subarray(0, length))) {
        return false;
      }
    }
    return true;
  } finally {
    await Promise.all([left.close(), right.close()]);
  }
}

/** Bytes that are compared at once. */
const pieceSize = 1024 * 1024;
