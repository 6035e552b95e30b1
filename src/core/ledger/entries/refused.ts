import * as z from 'zod';
import { defineAction } from './action';

const schema = z.object({
  kind: z.literal('refused'),
  command: z.enum(['publish', 'promote', 'rollback']),
  environment: z.string(),
  /** The code of the error, what it was about, and why. */
  code: z.string(),
  object: z.string(),
  reason: z.string(),
});
type Refused = z.infer<typeof schema>;

/** A rule said no, and nothing was changed. It is kept where somebody is to be told of it. */
export const refused = defineAction<Refused, typeof schema>('refused', {
  schema,
  reads: () => [],
  fold: () => undefined,
});
