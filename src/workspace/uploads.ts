import { createHash } from 'node:crypto';
import { mkdir, readFile, rename, rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import * as z from 'zod';
import { parseJson } from '../core/oci/manifest';

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
    const next = `${this.fileOf(key)}.${process.pid}`;
    // A location can hold what lets anybody go on with the upload.
    await writeFile(next, JSON.stringify({ key, location, process: process.pid, at: Date.now() }), { mode: 0o600 });
    await rename(next, this.fileOf(key));
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
    return error instanceof Error && 'code' in error && error.code === 'EPERM';
  }
}
