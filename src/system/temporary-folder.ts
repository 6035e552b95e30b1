import { mkdtemp, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';

/** How the names of temporary folders begin, for `mkdtemp`: they say which process made them. */
export function temporaryFolderPrefix(): string {
  return join(tmpdir(), `hod-run-${process.pid}-`);
}

/** The process that made a temporary folder of this name; undefined for any other name. */
export function runOfTemporary(name: string): number | undefined {
  const number = /^hod-run-(\d{1,10})-[A-Za-z0-9]{6}$/.exec(name)?.[1];
  return number === undefined ? undefined : Number(number);
}

/**
 * Writes small files into a temporary folder that only this user may enter, for a program that reads files, and removes them
 * after the work.
 *
 * @param files The content of each file, by its name.
 * @param work Is told the path of a file by its name.
 */
export async function withTemporaryFiles<T>(
  files: ReadonlyMap<string, string | Uint8Array>,
  work: (pathOf: (name: string) => string) => Promise<T>,
): Promise<T> {
  const folder = await mkdtemp(temporaryFolderPrefix());
  try {
    for (const [name, content] of files) {
      await writeFile(join(folder, name), content, { mode: 0o600 });
    }
    return await work((name) => join(folder, name));
  } finally {
    await rm(folder, { recursive: true, force: true });
  }
}
