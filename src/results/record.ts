import * as z from 'zod';
import type { ChosenRelease } from '../core/release/promotion';
import { digest } from './common';

const about = {
  product: z.string(),
  environment: z.string(),
  by: z.string(),
  dryRun: z.boolean(),
  /** False where the ledger knew it. */
  isNew: z.boolean(),
  /** The releases that it is about: its digests, and no others. */
  releases: z.array(
    z.strictObject({ version: z.string().nullable(), commit: z.string(), components: z.array(z.string()) }),
  ),
};

export const resultResultSchema = z.strictObject({
  ...about,
  name: z.string(),
  passed: z.boolean(),
  link: z.string().nullable(),
});
export type ResultResult = z.infer<typeof resultResultSchema>;

export const signOffResultSchema = z.strictObject(about);
export type SignOffResult = z.infer<typeof signOffResultSchema>;

export const rulesResultSchema = z.strictObject({
  product: z.string(),
  environment: z.string(),
  by: z.string(),
  dryRun: z.boolean(),
  /** False where the ledger knew it. */
  isNew: z.boolean(),
  /** The digest of the rules of this hod.yaml. */
  digest,
  /** What differs from the rules in force, in words; nothing where they are in force. */
  differences: z.array(z.string()),
  /** Who accepts them. */
  accepted: z.array(z.string()),
  /** How many people must accept them. */
  needed: z.number().int(),
  /** Whether they are in force for the environment now. */
  inForce: z.boolean(),
});
export type RulesResult = z.infer<typeof rulesResultSchema>;

/** What something was recorded about. */
export function toRecorded(chosen: readonly ChosenRelease[]): SignOffResult['releases'] {
  return chosen.map(({ release: { version, commit }, components }) => {
    return { version: version ?? null, commit, components: components.map(({ component }) => component) };
  });
}
