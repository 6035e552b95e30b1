import { createHash } from 'node:crypto';
import { mkdir, readFile, rm } from 'node:fs/promises';
import { join } from 'node:path';
import writeFileAtomic from 'write-file-atomic';
import * as z from 'zod';
import { systemErrorCode } from '../core/errors';
import { parseJson } from '../core/json';

/** Registries forget uploads that nobody goes on with; so does Hod, after this many milliseconds. */
const staleAfter = 24 * 60 * 60 * 1000;

const schema = z.object({ key: z.string(), location: z.string(), process: z.number(), at: z.number() });

/** Remembers where unfinished uploads go on, in files of a folder, for this run and for later ones. */
export class UploadFiles {
  constructor(private readonly folder: string) {}

  /** Where an upload goes on; undefined where it is stale, or another process is at it. */
  async recall(key: string): Promise<string | undefined> {
    const bytes = await readFile(this.fileOf(key)).catch(() => undefined);
    const found = schema.safeParse((bytes && parseJson(bytes)) ?? null).data;
    if (found?.key !== key || Date.now() - found.at > staleAfter) {
      return undefined;
    }
    return found.process === process.pid || !isAlive(found.process) ? found.location : undefined;
  }

  async remember(key: string, location: string): Promise<void> {
    await mkdir(this.folder, { recursive: true });
    const text = JSON.stringify({ key, location, process: process.pid, at: Date.now() });
    // A location can hold what lets anybody go on with the upload. One that is lost costs time, nothing else.
    await writeFileAtomic(this.fileOf(key), text, { mode: 0o600, fsync: false });
  }

  async forget(key: string): Promise<void> {
    await rm(this.fileOf(key), { force: true });
  }

  private fileOf(key: string): string {
    return join(this.folder, `${createHash('sha256').update(key).digest('hex').slice(0, 32)}.json`);
  }
}

function isAlive(pid: number): boolean {
  try {
    process.kill(pid, 0);
    return true;
  } catch (error) {
    return systemErrorCode(error) === 'EPERM';
  }
}
