import { mkdir } from 'node:fs/promises';
import { join } from 'node:path';
import { writeFile } from '../system/write-file';

/**
 * Makes the folder in which Hod keeps what it remembers beside a product, so that git takes no notice of it:
 * no run makes the working copy dirty, and nothing of it is committed by mistake. Where it cannot be
 * written, whoever writes into it says so.
 */
export async function makeStateFolder(folder: string): Promise<void> {
  await mkdir(folder, { recursive: true }).catch(() => undefined);
  await writeFile(join(folder, '.gitignore'), '*\n', { isNew: true, soon: true }).catch(() => undefined);
}
