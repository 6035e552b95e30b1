import { randomUUID } from 'node:crypto';
import { constants, writeFileSync, type Stats } from 'node:fs';
import * as fs from 'node:fs/promises';
import { basename, dirname, join, resolve } from 'node:path';
import { messageOf, systemErrorCode } from '../core/errors';
import { progress } from './write-all';

/**
 * Writes files, for all of Hod. Disks are full, quotas end and machines stop in the middle: a file is what it was before, or
 * what it is to become, and never anything else. The new content goes into a file beside it, all of it and onto the disk, and
 * takes its name then.
 */

/** What a file is to hold. */
export type Content = string | Uint8Array | AsyncIterable<string | Uint8Array>;

/** How a file is written. */
export interface WriteOptions {
  /** Nobody but this user may read it, whatever it was before. */
  readonly secret?: boolean;
  /** It is a file that must not be there yet; else the error is `EEXIST`. */
  readonly isNew?: boolean;
  /** Not waiting until it is on the disk: of something whose loss costs only time. */
  readonly soon?: boolean;
}

/** A file that is written and does not have its name yet. */
export interface PreparedFile {
  /** Gives the prepared file its name, in the place of the old one. */
  commit(): Promise<void>;
  /** Removes the prepared file; the old one stays. Never throws. */
  discard(): Promise<void>;
}

/**
 * Writes a file in the place of what is there, which keeps its mode and, where that is allowed, its owner. A symbolic link
 * stays: what it leads to is written. What is no plain file (a pipe, a device) is written into.
 *
 * @throws The error of the system; what was there is there still.
 */
export async function writeFile(path: string, content: Content, options: WriteOptions = {}): Promise<void> {
  const prepared = await prepareFile(path, content, options);
  await prepared.commit();
}

/**
 * Writes a file beside the one whose place it is to take.
 *
 * @throws The error of the system, and leaves nothing behind.
 */
export async function prepareFile(path: string, content: Content, options: WriteOptions = {}): Promise<PreparedFile> {
  const { secret = false, isNew = false, soon = false } = options;
  const found = isNew ? undefined : await statOf(path);
  if (found !== undefined && (!found.isFile() || isOpenElsewhere(path))) {
    return intoWhatIsThere(path, found, content);
  }
  const target = isNew ? resolve(path) : await followLinks(path);
  const before = found && (await statOf(target));
  const folder = dirname(target);
  const beside = join(folder, `.${basename(target).slice(0, 100)}.${randomUUID()}.new`);
  const discard = (): Promise<void> => fs.rm(beside, { force: true }).catch(() => undefined);
  const handle = await fs.open(beside, 'wx', secret || before !== undefined ? 0o600 : 0o666);
  try {
    try {
      await writeContent(handle, content);
      if (before !== undefined) {
        await keepOwner(handle, before);
        await handle.chmod(secret ? 0o600 : before.mode & 0o7777);
      }
      if (!soon) {
        await handle.sync();
      }
    } finally {
      await handle.close();
    }
  } catch (error) {
    await discard();
    throw error;
  }
  return {
    discard,
    commit: async () => {
      try {
        await (isNew ? takeFreeName(beside, target) : fs.rename(beside, target));
      } catch (error) {
        await discard();
        throw error;
      }
      if (!soon) {
        await syncFolder(folder);
      }
    },
  };
}

/** A file that is to hold something else than was read from it. */
export interface ChangedFile {
  readonly path: string;
  readonly was: Uint8Array;
  readonly content: string | Uint8Array;
}

/** Several files were to be written together, and were not, or not all. */
export class NotWritten extends Error {
  /**
   * @param failed The file at which it failed.
   * @param written Those that hold the new content nevertheless: they had taken their names when another could not.
   */
  constructor(
    readonly failed: string,
    readonly written: readonly string[],
    why: string,
    cause?: unknown,
  ) {
    super(why, { cause });
  }
}

/**
 * Writes several files, all or none: all are prepared, and nothing is written where one cannot be, or holds something else by
 * now than was read from it.
 *
 * @throws {@link NotWritten}
 */
export async function writeTogether(files: readonly ChangedFile[]): Promise<void> {
  const prepared: { readonly path: string; readonly file: PreparedFile }[] = [];
  const written: string[] = [];
  const attempt = async (path: string, work: () => Promise<unknown>): Promise<void> => {
    try {
      await work();
    } catch (error) {
      await Promise.all(prepared.map(({ file }) => file.discard()));
      throw error instanceof NotWritten ? error : new NotWritten(path, written, messageOf(error), error);
    }
  };
  for (const { path, content } of files) {
    await attempt(path, async () => prepared.push({ path, file: await prepareFile(path, content) }));
  }
  for (const { path, was } of files) {
    await attempt(path, async () => {
      if (!(await fs.readFile(path)).equals(was)) {
        throw new Error('somebody else changed it meanwhile');
      }
    });
  }
  for (const { path, file } of prepared) {
    await attempt(path, () => file.commit());
    written.push(path);
  }
}

/** Writes a small file in a folder that is removed when this run ends: what is lost with it is nothing. */
export function writeScratchFile(path: string, text: string): void {
  writeFileSync(path, text);
}

/**
 * Adds text to a file's end, all of it or none. What is no plain file is written into.
 *
 * @throws The error of the system.
 */
export async function appendToFile(path: string, text: string): Promise<void> {
  const handle = await fs.open(path, 'a');
  try {
    const before = await handle.stat();
    try {
      await writeContent(handle, text);
    } catch (error) {
      if (before.isFile()) {
        await handle.truncate(before.size).catch(() => undefined);
      }
      throw error;
    }
  } finally {
    await handle.close();
  }
}

/** Writes content from where the file stands. Throws where the file did not take all of it. */
async function writeContent(handle: fs.FileHandle, content: Content): Promise<void> {
  const pieces = typeof content === 'string' || content instanceof Uint8Array ? [content] : content;
  const begun = (await handle.stat()).size;
  let written = 0;
  for await (const piece of pieces) {
    const bytes = typeof piece === 'string' ? Buffer.from(piece) : piece;
    for (let at = 0; at < bytes.length;) {
      at += progress((await handle.write(bytes, at)).bytesWritten);
    }
    written += bytes.length;
  }
  const now = await handle.stat();
  if (now.isFile() && now.size < begun + written) {
    throw new Error(`the disk took ${now.size - begun} of ${written} bytes`);
  }
}

/** Names such as /dev/stdout and /proc/self/fd/3 stand for files that others hold open, and would not see another in their place. */
function isOpenElsewhere(path: string): boolean {
  return /^\/(dev|proc)\//.test(resolve(path));
}

/** A pipe or a device takes what it is given at the commit; nothing was there that could be kept. */
async function intoWhatIsThere(path: string, before: Stats, content: Content): Promise<PreparedFile> {
  if (before.isDirectory()) {
    throw Object.assign(new Error(`EISDIR: it is a folder, '${path}'`), { code: 'EISDIR' });
  }
  return Promise.resolve({
    discard: () => Promise.resolve(),
    commit: async () => {
      const handle = await fs.open(path, constants.O_WRONLY);
      try {
        await writeContent(handle, content);
      } finally {
        await handle.close();
      }
    },
  });
}

/**
 * Linux follows no more.
 * @limit symbolic links on the way to a file that Hod writes | links | `file-unusable`
 */
const linkLimit = 40;

/** Where a path leads through symbolic links, also where nothing is at their end. */
async function followLinks(path: string): Promise<string> {
  let at = resolve(path);
  for (let count = 0; count < linkLimit; count += 1) {
    try {
      return await fs.realpath(at);
    } catch (error) {
      if (systemErrorCode(error) !== 'ENOENT') {
        throw error;
      }
    }
    const link = await fs.readlink(at).catch(() => undefined);
    if (link === undefined) {
      return at;
    }
    at = resolve(await fs.realpath(dirname(at)), link);
  }
  throw Object.assign(new Error(`ELOOP: too many symbolic links, '${path}'`), { code: 'ELOOP' });
}

async function statOf(path: string): Promise<Stats | undefined> {
  return fs.stat(path).catch((error: unknown) => {
    if (systemErrorCode(error) === 'ENOENT') {
      return undefined;
    }
    throw error;
  });
}

/** Gives a file the owner that the one before had, where this user may. */
async function keepOwner(handle: fs.FileHandle, { uid, gid }: Stats): Promise<void> {
  const own = await handle.stat();
  if (own.uid !== uid || own.gid !== gid) {
    await handle.chown(uid, gid).catch((error: unknown) => {
      if (systemErrorCode(error) !== 'EPERM') {
        throw error;
      }
    });
  }
}

/** Gives a file a name that nothing has: in one step, so that of two who do so one is refused. */
async function takeFreeName(beside: string, target: string): Promise<void> {
  await fs.link(beside, target).catch(async (error: unknown) => {
    if (!['EPERM', 'ENOTSUP', 'ENOSYS'].includes(systemErrorCode(error) ?? '')) {
      throw error;
    }
    // A file system without hard links.
    await (await fs.open(target, 'wx')).close();
    await fs.rename(beside, target);
  });
  await fs.rm(beside, { force: true });
}

/** Makes the new name of a file last. Some file systems have no such thing, and need none. */
export async function syncFolder(folder: string): Promise<void> {
  const handle = await fs.open(folder, constants.O_RDONLY).catch(() => undefined);
  await handle?.sync().catch(() => undefined);
  await handle?.close().catch(() => undefined);
}
