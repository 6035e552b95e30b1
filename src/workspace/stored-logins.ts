import { stat } from 'node:fs/promises';
import * as z from 'zod';
import type { Secrets } from '../core/access/secrets';
import { HodError, systemErrorCode } from '../core/errors';
import { mapOf, parseJson } from '../core/json';
import { fileUnusable, readSmallFile } from '../system/plain-files';
import { changeUserFile, userFile } from './user-files';

const fileSchema = z.strictObject({
  registries: mapOf(z.strictObject({ username: z.string(), password: z.string() })),
});

/** The login of a registry that a user stored. */
export interface StoredLogin {
  username: string;
  password: string;
}

/** Where stored logins are kept: in the user's configuration folder. */
export function storedFile(): string {
  return userFile('logins.json');
}

/** Stored logins by registry. Throws `denied` where others than the user may read the file. */
export async function readStored(secrets: Secrets): Promise<Map<string, StoredLogin>> {
  const file = storedFile();
  try {
    const { mode } = await stat(file);
    if ((mode & 0o077) !== 0) {
      throw new HodError('logins-unsafe', {
        what: 'stored logins are not safe',
        object: file,
        why: `others may read it (its mode is ${(mode & 0o777).toString(8)})`,
        next: `run chmod 600 ${file}, and change the passwords in it if others may have seen them`,
      });
    }
    const { registries } = fileSchema.parse(parseJson(await readSmallFile(file)) ?? null);
    registries.forEach(({ username, password }, registry) => secrets.keep(password, registry, username));
    return new Map(registries);
  } catch (error) {
    if (systemErrorCode(error) === 'ENOENT') {
      return new Map();
    }
    if (error instanceof z.ZodError) {
      throw new HodError('logins-unreadable', {
        what: 'stored logins cannot be read',
        object: file,
        why: 'it is not what `hod access store` wrote',
        next: 'remove it, and store the logins again',
      });
    }
    throw error;
  }
}

/**
 * Changes the stored logins, while no other process does. Answers them as they are then.
 *
 * @throws `file-unusable` where they cannot be written; those that were stored before are there still.
 */
export async function changeStored(
  secrets: Secrets,
  change: (logins: Map<string, StoredLogin>) => unknown,
): Promise<Map<string, StoredLogin>> {
  const file = storedFile();
  let logins = new Map<string, StoredLogin>();
  try {
    await changeUserFile(file, async () => {
      logins = await readStored(secrets);
      change(logins);
      return { registries: Object.fromEntries(logins) };
    });
  } catch (error) {
    throw fileUnusable(file, error, 'what was stored before is unchanged; correct that, and store the login again');
  }
  return logins;
}
