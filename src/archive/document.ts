import type * as z from 'zod';
import { atMost } from '../core/bytes';
import { HodError } from '../core/errors';
import { issuesToText, readJsonValue } from '../core/json';
import { manifestSizeLimit } from '../core/oci/manifest';
import { unrecognised } from './output-images';
import type { OutputFiles } from './files';

/** Reads a JSON document of a build output. Throws `missing` where it is not there, `corrupt` where it is not of its form. */
export async function readDocument<T>(files: OutputFiles, name: string, schema: z.ZodType<T>): Promise<T> {
  return parseDocument(await readWhole(files, name), files, name, schema);
}

/** A JSON document of a build output, whose bytes were read. Throws `corrupt` where it is not of its form. */
export function parseDocument<T>(bytes: Uint8Array, files: OutputFiles, name: string, schema: z.ZodType<T>): T {
  const { value, problem } = readJsonValue(bytes);
  const parsed = schema.safeParse(value ?? null);
  if (!parsed.success) {
    throw corruptOutput(files, name, problem ?? issuesToText(parsed.error));
  }
  return parsed.data;
}

/** All bytes of a small file of a build output. Throws `missing` and `corrupt`. */
export async function readWhole(files: OutputFiles, name: string): Promise<Uint8Array> {
  if ((await files.size(name)) === undefined) {
    throw unrecognised(files.label, `it has no ${name}; ${holds(await files.names())}`);
  }
  const bytes = await atMost(manifestSizeLimit, files.open(name));
  if (bytes === undefined) {
    throw corruptOutput(files, name, `it has more than ${manifestSizeLimit} bytes`);
  }
  return bytes;
}

/** What a build output holds that is not understood, in a sentence. */
export function holds(names: readonly string[]): string {
  return names.length === 0 ? 'there is nothing in it' : `what it holds begins with ${names.join(', ')}`;
}

/** The error for a file of a build output that cannot be trusted. */
export function corruptOutput(files: Pick<OutputFiles, 'label'>, name: string, why: string): HodError {
  return new HodError('layout-corrupt', {
    what: 'this build output cannot be read',
    object: `${name} in ${files.label}`,
    why,
    next: 'build the image again; nothing was tagged',
  });
}
