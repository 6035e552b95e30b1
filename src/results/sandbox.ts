import * as z from 'zod';

export const sandboxResultSchema = z.strictObject({
  registries: z.array(
    z.strictObject({
      name: z.string(),
      registry: z.string(),
      /** Where its content is kept; null: in memory. */
      folder: z.string().nullable(),
    }),
  ),
  /** How a job proves itself; null where the registries are open, or ask for a login. */
  identity: z
    .strictObject({
      issuer: z.string(),
      /** Where the job asks for its token, and its permission to. */
      tokenUrl: z.string(),
      bearer: z.string(),
      audience: z.string(),
      /** Where the token is exchanged. */
      exchange: z.string(),
    })
    .nullable(),
  /** Where announcements may be sent, and what they are to be signed with; null where nobody takes any. */
  receiver: z.strictObject({ url: z.string(), key: z.string() }).nullable(),
});
export type SandboxResult = z.infer<typeof sandboxResultSchema>;
