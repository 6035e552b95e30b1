import * as z from 'zod';
import { digestSchema } from '../core/oci/digest';
import { mapOf, parseJson } from '../core/json';
import type { Memory } from '../core/memory';
import { readSmallFile } from './files';
import { userFile, writeUserFile } from './user-files';

/** So much is remembered of one kind; what was remembered first is forgotten. */
const most = 2_000;

/** Something that is remembered under many names, in a file of this user's. */
export class UserMemory<T> {
  private readonly schema;

  /** @param lasting How long it counts, in milliseconds; for ever where it is not given. */
  constructor(
    private readonly file: string,
    value: z.ZodType<T>,
    private readonly lasting = Infinity,
  ) {
    this.schema = z.object({ known: mapOf(z.object({ value, at: z.number() })) });
  }

  /** What is remembered under one name. */
  of(name: string): Memory<T> {
    return {
      recall: async () => {
        const found = (await this.readAll()).get(name);
        const age = found === undefined ? 0 : Date.now() - found.at;
        return age >= 0 && age < this.lasting ? found?.value : undefined;
      },
      remember: async (value) => {
        try {
          const others = [...(await this.readAll())].filter(([other]) => other !== name).slice(1 - most);
          const known = Object.fromEntries([...others, [name, { value, at: Date.now() }]]);
          await writeUserFile(userFile(this.file), { known });
        } catch {
          // A read-only home, as containers have: it is found out anew in each run.
        }
      },
    };
  }

  private async readAll(): Promise<Map<string, { value: T; at: number }>> {
    try {
      return this.schema.parse(parseJson(await readSmallFile(userFile(this.file))) ?? null).known;
    } catch {
      return new Map();
    }
  }
}

const day = 24 * 60 * 60 * 1000;

/** The host of the token service that a registry named the first time. */
export const tokenServices = new UserMemory('token-services.json', z.string());
/** Whether a registry refuses content that is not what its digest says. */
export const contentChecks = new UserMemory('content-checks.json', z.boolean(), day);
/** The most bytes that one request to a registry may have, where more did not get through. */
export const requestLimits = new UserMemory('request-limits.json', z.int().positive(), day);
/** What plain layers became when they were compressed, by their diff IDs; as this compressor does it. */
export const packedLayers = new UserMemory(
  'packed-layers-1.json',
  z.object({ digest: digestSchema, size: z.int().nonnegative() }),
);
