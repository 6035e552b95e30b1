import { mkdir } from 'node:fs/promises';
import { homedir, userInfo } from 'node:os';
import { dirname, join } from 'node:path';
import { HodError } from '../core/errors';
import { withLock } from '../system/lock';
import { writeFile } from '../system/write-file';

/** A file of this user's that Hod keeps beyond one product. Throws `file-unusable` for a user without a home. */
export function userFile(name: string): string {
  return join(userFolder(), name);
}

/** The folder in which Hod keeps files of this user. Throws `file-unusable` for a user without a home. */
export function userFolder(): string {
  const configured = process.env['XDG_CONFIG_HOME'];
  return join(configured === undefined || configured === '' ? join(home(), '.config') : configured, 'hod');
}

/**
 * Changes a document in a file of this user's that nobody else may read, while no other process changes it.
 *
 * @param change Reads what is there, and answers what is to be there; undefined where that stays as it is.
 */
export async function changeUserFile(file: string, change: () => Promise<object | undefined>): Promise<void> {
  await mkdir(dirname(file), { recursive: true, mode: 0o700 });
  await withLock(file, async () => {
    const document = await change();
    if (document !== undefined) {
      await writeFile(file, JSON.stringify(document), { secret: true });
    }
  });
}

/** The folder of this user; undefined where there is none, as for some users of containers. */
export function homeFolder(): string | undefined {
  try {
    return homedir();
  } catch {
    return undefined;
  }
}

function home(): string {
  const folder = homeFolder();
  if (folder === undefined) {
    throw new HodError('file-unusable', {
      what: 'this user has no folder of its own',
      object: userName(),
      why: 'neither HOME nor XDG_CONFIG_HOME is set, and this machine knows no such user',
      next: 'set HOME',
    });
  }
  return folder;
}

/** The name of the user that runs this; containers run under numbers that have none. */
export function userName(): string {
  const named = process.env['USER'];
  if (named !== undefined && named !== '') {
    return named;
  }
  try {
    return userInfo().username;
  } catch {
    return `uid ${process.getuid?.() ?? 'unknown'}`;
  }
}
