import * as z from 'zod';

export const configCheckResultSchema = z.strictObject({
  file: z.string(),
  product: z.string(),
  images: z.array(z.string()),
  bundles: z.array(z.string()),
  environments: z.array(z.string()),
});
export type ConfigCheckResult = z.infer<typeof configCheckResultSchema>;
