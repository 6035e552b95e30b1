import * as z from 'zod';
import { nextStep } from './common';

export const initResultSchema = z.strictObject({
  file: z.string(),
  product: z.string(),
  /** The images whose build outputs were found. */
  images: z.array(z.strictObject({ name: z.string(), from: z.array(z.string()), platforms: z.array(z.string()) })),
  environments: z.array(z.string()),
  /** Where the ledger is. */
  ledger: z.string(),
  /** Whether something here tells a CI what to run. */
  ciFound: z.boolean(),
  /** The registry that was named; null for the stand-in on this machine. */
  registry: z.string().nullable(),
  /** What to run now, in this order. */
  next: z.array(nextStep),
  /** What the file holds. */
  lines: z.array(z.string()),
  dryRun: z.boolean(),
});
export type InitResult = z.infer<typeof initResultSchema>;
