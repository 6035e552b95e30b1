import * as z from 'zod';
import { allErrorCodes } from '../core/errors';

const right = z.strictObject({
  /** `unknown`: the registry could not be asked. */
  allowed: z.enum(['yes', 'no', 'unknown']),
  /** The code of the error that stands in the way. */
  code: z.enum(allErrorCodes).nullable(),
  why: z.string().nullable(),
  next: z.string().nullable(),
});

export const accessResultSchema = z.strictObject({
  product: z.string(),
  environments: z.array(
    z.strictObject({
      environment: z.string(),
      /** What the job needs there; null: nothing. */
      needs: z.enum(['read', 'write']).nullable(),
      repositories: z.array(
        z.strictObject({
          image: z.string(),
          repository: z.string(),
          read: right,
          write: right,
          /** From the environment before; null where they do not share a registry. */
          mount: right.nullable(),
        }),
      ),
    }),
  ),
  /** What the job may do with the ledger. Whether it takes a certain reference, a git remote says only when one comes. */
  ledger: z.strictObject({ ledger: z.string(), read: right, append: right }),
  /** Rights that go further than is needed. */
  warnings: z.array(z.string()),
});
export type AccessResult = z.infer<typeof accessResultSchema>;
export type RightResult = z.infer<typeof right>;

export const storedLoginsResultSchema = z.strictObject({
  file: z.string(),
  /** True where nothing was written: the document says what would have been. */
  dryRun: z.boolean(),
  logins: z.array(z.strictObject({ registry: z.string(), username: z.string() })),
});
export type StoredLoginsResult = z.infer<typeof storedLoginsResultSchema>;

export function toStoredLoginsResult(
  file: string,
  logins: ReadonlyMap<string, { username: string }>,
  dryRun = false,
): StoredLoginsResult {
  return { file, dryRun, logins: [...logins].map(([registry, { username }]) => ({ registry, username })) };
}
