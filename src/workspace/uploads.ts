import { createHash, randomUUID } from 'node:crypto';
import { mkdir, readdir, readFile, rm, stat } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import * as z from 'zod';
import { parseJson } from '../core/json';
import { inProgressFor } from '../core/tidy/own-files';
import { isAlive, processSpace } from '../system/processes';
import { writeFile } from '../system/write-file';
import { makeStateFolder } from './state-folder';

/** A run that cannot be seen from here is taken to be at an upload for so long after it last said so, in milliseconds. */
const unseenFor = 15 * 60 * 1000;

const schema = z.object({
  key: z.string(),
  location: z.string(),
  /** The run that is at it, the process that it is, and where that number means this process. */
  run: z.string(),
  process: z.number(),
  space: z.string(),
  at: z.number(),
});
type Remembered = z.infer<typeof schema>;

/** Remembers where unfinished uploads go on, in files of a folder, for this run and for later ones. */
export class UploadFiles {
  private readonly run = randomUUID();
  private readonly space = processSpace();

  /** Set once this run has forgotten the uploads that nobody goes on with. */
  private forgetting: Promise<void> | undefined;

  constructor(private readonly folder: string) {}

  /** Where an upload goes on; undefined where it is stale, or another process may be at it. */
  async recall(key: string): Promise<string | undefined> {
    const bytes = await readFile(this.fileOf(key)).catch(() => undefined);
    const found = schema.safeParse((bytes && parseJson(bytes)) ?? null).data;
    if (found?.key !== key || Date.now() - found.at > inProgressFor) {
      return undefined;
    }
    return found.run === this.run || (await this.isOver(found)) ? found.location : undefined;
  }

  async remember(key: string, location: string): Promise<void> {
    await makeStateFolder(dirname(this.folder));
    await mkdir(this.folder, { recursive: true });
    await (this.forgetting ??= this.forgetStale());
    const record: Remembered = {
      key,
      location,
      run: this.run,
      process: process.pid,
      space: await this.space,
      at: Date.now(),
    };
    // A location can hold what lets anybody go on with the upload. One that is lost costs time, nothing else.
    await writeFile(this.fileOf(key), JSON.stringify(record), { secret: true, soon: true });
  }

  /** Forgets uploads that killed runs left behind. */
  private async forgetStale(): Promise<void> {
    const names = await readdir(this.folder).catch(() => []);
    await Promise.all(
      names.map(async (name) => {
        const file = join(this.folder, name);
        const found = await stat(file).catch(() => undefined);
        if (found !== undefined && Date.now() - found.mtimeMs > inProgressFor) {
          await rm(file, { force: true });
        }
      }),
    );
  }

  async forget(key: string): Promise<void> {
    await rm(this.fileOf(key), { force: true });
  }

  /** Whether the run that was at an upload has ended. In another container the same number is another process. */
  private async isOver({ space, process: pid, at }: Remembered): Promise<boolean> {
    return space === (await this.space) ? pid === process.pid || !isAlive(pid) : Date.now() - at > unseenFor;
  }

  private fileOf(key: string): string {
    return join(this.folder, `${createHash('sha256').update(key).digest('hex').slice(0, 32)}.json`);
  }
}
