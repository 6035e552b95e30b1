import * as z from 'zod';

const nameSchema = z
  .string()
  .regex(/^[a-z][a-z0-9]*(?:[-_.][a-z0-9]+)*$/, 'must be lower-case letters and digits with single - _ . between them');
const fromEnvironment = z.strictObject({ env: z.string().regex(/^[A-Za-z_][A-Za-z0-9_]*$/, 'must name a variable') });
const paths = z.union([z.string().min(1), z.array(z.string().min(1)).min(1)], 'must be a path or a list of paths');

const isFilled = (record: object): boolean => Object.keys(record).length > 0;

/** An image in hod.yaml. */
export const imageSchema = z.strictObject({ from: paths, platforms: z.array(z.string()).min(1).optional() });

/** An environment in hod.yaml. */
export const environmentSchema = z.strictObject({
  after: z.string().optional(),
  repository: z.string(),
  tags: z
    .strictObject({ fixed: z.array(z.string()).optional(), moving: z.array(z.string()).optional() })
    .refine(({ fixed = [], moving = [] }) => fixed.length + moving.length > 0, 'there is none'),
});

/** The form of hod.yaml. What its names lead to is checked apart. */
export const configSchema = z.strictObject({
  product: nameSchema,
  images: z.record(nameSchema, imageSchema).refine(isFilled, 'there is none'),
  environments: z.record(nameSchema, environmentSchema).refine(isFilled, 'there is none'),
  registries: z
    .record(
      z.string(),
      z.strictObject({
        tls: z.boolean().optional(),
        credentials: z.strictObject({ username: fromEnvironment, password: fromEnvironment }).optional(),
      }),
    )
    .optional(),
  ledger: z.strictObject({ file: z.string().min(1) }).optional(),
});
/** A hod.yaml of the right form. */
export type RawConfig = z.infer<typeof configSchema>;
