import * as z from 'zod';

/** Releases of several products that one command brought into an environment, or rolled back, in one step. */
export const releaseSetSchema = z.object({
  /** The same in the ledgers of all of them. */
  id: z.string(),
  /** Their products, by name. */
  products: z.array(z.string()),
});
export type ReleaseSet = z.infer<typeof releaseSetSchema>;
