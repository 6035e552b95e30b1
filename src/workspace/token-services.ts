import * as z from 'zod';
import { mapOf, parseJson } from '../core/json';
import { readSmallFile } from './files';
import { userFile, writeUserFile } from './user-files';

const schema = z.object({ registries: mapOf(z.string()) });

/** The host of the token service that a registry named the first time; undefined where none is known. */
export async function recallTokenService(registry: string): Promise<string | undefined> {
  return (await readAll()).get(registry);
}

/** Remembers the token service of a registry. Where nothing can be written it is named anew in each run, and said so. */
export async function rememberTokenService(registry: string, host: string): Promise<void> {
  try {
    const registries = new Map([...(await readAll()), [registry, host]]);
    await writeUserFile(userFile('token-services.json'), { registries: Object.fromEntries(registries) });
  } catch {
    // A read-only home, as containers have: hod.yaml can name the service.
  }
}

async function readAll(): Promise<Map<string, string>> {
  try {
    return schema.parse(parseJson(await readSmallFile(userFile('token-services.json'))) ?? null).registries;
  } catch {
    return new Map();
  }
}
