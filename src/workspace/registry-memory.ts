import * as z from 'zod';
import { mapOf, parseJson } from '../core/json';
import type { Memory } from '../core/memory';
import { readSmallFile } from './files';
import { userFile, writeUserFile } from './user-files';

/** Something that is remembered of registries, in a file of this user's. */
export class RegistryMemory<T> {
  private readonly schema;

  /** @param lasting How long it counts, in milliseconds; for ever where it is not given. */
  constructor(
    private readonly name: string,
    value: z.ZodType<T>,
    private readonly lasting = Infinity,
  ) {
    this.schema = z.object({ registries: mapOf(z.object({ value, at: z.number() })) });
  }

  /** What is remembered of one registry. */
  of(registry: string): Memory<T> {
    return {
      recall: async () => {
        const found = (await this.readAll()).get(registry);
        const age = found === undefined ? 0 : Date.now() - found.at;
        return age >= 0 && age < this.lasting ? found?.value : undefined;
      },
      remember: async (value) => {
        try {
          const registries = new Map([...(await this.readAll()), [registry, { value, at: Date.now() }]]);
          await writeUserFile(userFile(this.name), { registries: Object.fromEntries(registries) });
        } catch {
          // A read-only home, as containers have: it is found out anew in each run.
        }
      },
    };
  }

  private async readAll(): Promise<Map<string, { value: T; at: number }>> {
    try {
      return this.schema.parse(parseJson(await readSmallFile(userFile(this.name))) ?? null).registries;
    } catch {
      return new Map();
    }
  }
}

const day = 24 * 60 * 60 * 1000;

/** The host of the token service that a registry named the first time. */
export const tokenServices = new RegistryMemory('token-services.json', z.string());
/** Whether a registry refuses content that is not what its digest says. */
export const contentChecks = new RegistryMemory('content-checks.json', z.boolean(), day);
/** The most bytes that one request to a registry may have, where more did not get through. */
export const requestLimits = new RegistryMemory('request-limits.json', z.int().positive(), day);
