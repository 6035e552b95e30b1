import { randomUUID } from 'node:crypto';
import { link, readFile, rename, rm } from 'node:fs/promises';
import { setTimeout as delay } from 'node:timers/promises';
import * as z from 'zod';
import { systemErrorCode } from '../core/errors';
import { parseJson } from '../core/json';
import { isAlive, processSpace } from './processes';
import { writeFile } from './write-file';

const holderSchema = z.object({ process: z.number(), space: z.string(), at: z.number() });

/** How long a lock is waited for, how often it is looked at, and how long one counts whose holder cannot be seen, in milliseconds. */
const [patience, pause, unseenFor] = [20_000, 15, 60_000];

/**
 * Does work while nobody else holds the lock of a file: `FILE.lock` beside it. The lock of a process that has ended is
 * removed.
 *
 * @throws The error of the system where the lock cannot be made, or `EBUSY` where another keeps it.
 */
export async function withLock<T>(file: string, work: () => Promise<T>): Promise<T> {
  const lock = `${file}.lock`;
  const begun = performance.now();
  const own = JSON.stringify({ process: process.pid, space: await processSpace(), at: Date.now() });
  for (;;) {
    try {
      await writeFile(lock, own, { isNew: true, secret: true, soon: true });
      break;
    } catch (error) {
      if (systemErrorCode(error) !== 'EEXIST') {
        throw error;
      }
    }
    await removeLeft(lock);
    if (performance.now() - begun > patience) {
      const why = `another process has held ${lock} for ${patience / 1000} s; where none runs, remove it`;
      throw Object.assign(new Error(why), { code: 'EBUSY' });
    }
    await delay(pause);
  }
  try {
    return await work();
  } finally {
    await rm(lock, { force: true });
  }
}

/** Removes a lock whose holder has ended. Where another process made a new lock meanwhile, that one is put back. */
async function removeLeft(lock: string): Promise<void> {
  const found = await readFile(lock).catch(() => undefined);
  const holder = found && holderSchema.safeParse(parseJson(found) ?? null).data;
  if (found === undefined || (holder !== undefined && !(await hasEnded(holder)))) {
    return;
  }
  const aside = `${lock}.${randomUUID()}`;
  try {
    await rename(lock, aside);
  } catch {
    return;
  }
  if (!(await readFile(aside)).equals(found)) {
    await link(aside, lock).catch(() => undefined);
  }
  await rm(aside, { force: true });
}

async function hasEnded({ process: pid, space, at }: z.infer<typeof holderSchema>): Promise<boolean> {
  return space === (await processSpace()) ? !isAlive(pid) : Date.now() - at > unseenFor;
}
