import * as z from 'zod';
import { systemErrorCode } from '../core/errors';
import { digestSchema } from '../core/oci/digest';
import { mapOf, parseJson } from '../core/json';
import type { Memory } from '../core/memory';
import { readSmallFile } from '../system/plain-files';
import { changeUserFile, userFile } from './user-files';

const minute = 60_000;
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
        const found = (await this.readAll().catch(() => undefined))?.get(name);
        const age = found === undefined ? 0 : Date.now() - found.at;
        // What counts for ever counts also where the clock went back; clocks are set by a little all the time.
        const counts = this.lasting === Infinity || (age > -minute && age < this.lasting);
        return counts ? found?.value : undefined;
      },
      remember: async (value) => {
        try {
          await changeUserFile(userFile(this.file), async () => {
            const others = [...(await this.readAll())].filter(([other]) => other !== name).slice(1 - most);
            return { known: Object.fromEntries([...others, [name, { value, at: Date.now() }]]) };
          });
        } catch {
          // A read-only home, as containers have: it is found out anew in each run.
        }
      },
    };
  }

  /** Throws where it is there and cannot be read: then it is not written either. What is not ours is empty. */
  private async readAll(): Promise<Map<string, { value: T; at: number }>> {
    const bytes = await readSmallFile(userFile(this.file)).catch((error: unknown) => {
      if (systemErrorCode(error) === 'ENOENT') {
        return undefined;
      }
      throw error;
    });
    return this.schema.safeParse((bytes && parseJson(bytes)) ?? null).data?.known ?? new Map();
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
