import * as z from 'zod';

const bytes = z.instanceof(Uint8Array);

/** What a thread is given to compress. */
export const workSchema = z.object({ block: bytes, before: bytes, last: z.boolean() });
/** What a thread answers. */
export const workDoneSchema = bytes;
export type WorkDone = z.infer<typeof workDoneSchema>;
