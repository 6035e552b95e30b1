import * as z from 'zod';
import { tagKinds } from '../core/tags/rules';

export const configCheckResultSchema = z.strictObject({
  file: z.string(),
  product: z.string(),
  images: z.array(z.string()),
  bundles: z.array(z.string()),
  /** Images whose build outputs builders push to a registry, and where. */
  pushed: z.array(z.strictObject({ component: z.string(), reference: z.string() })),
  /** Components of other products. */
  includes: z.array(z.string()),
  environments: z.array(z.string()),
  /** What is allowed, and seldom meant. */
  warnings: z.array(z.string()),
});
export type ConfigCheckResult = z.infer<typeof configCheckResultSchema>;

export const configShowResultSchema = z.strictObject({
  file: z.string(),
  product: z.string(),
  ledger: z.string(),
  /** What was filled in for `{variable.NAME}`; `env`: the variable of the environment that it came from, null for a default or a fixed value. */
  variables: z.array(z.strictObject({ name: z.string(), value: z.string(), env: z.string().nullable() })),
  /** The components that other products build: the reference that names each, or where that product serves it, as which component. */
  includes: z.array(
    z.strictObject({
      component: z.string(),
      reference: z.string().nullable(),
      served: z
        .strictObject({ product: z.string(), environment: z.string(), component: z.string(), ledger: z.string() })
        .nullable(),
    }),
  ),
  /** Who is told of what happens; `url`: null where the address is a secret. */
  announce: z.array(z.strictObject({ receiver: z.string(), url: z.string().nullable(), kinds: z.array(z.string()) })),
  environments: z.array(
    z.strictObject({
      environment: z.string(),
      after: z.string().nullable(),
      /** Of the first: the branches whose builds take over; `usual`: hod.yaml does not say, git does. */
      follows: z.strictObject({ branches: z.array(z.string()), usual: z.boolean() }).nullable(),
      /** The branches whose releases come in; null for the first, which takes builds. */
      takes: z.array(z.string()).nullable(),
      /** What is published into the first; null for the others, which releases are promoted into. */
      receives: z.enum(['builds', 'parcels']).nullable(),
      gates: z.strictObject({
        /** Of one that receives parcels: the environment of the other side that must have served it. */
        served: z.string().nullable(),
        results: z.array(z.string()),
        signOffs: z.number().int(),
        /** Milliseconds. */
        soak: z.number(),
        freeze: z.array(z.string()),
        platforms: z.array(z.string()),
        annotations: z.array(z.string()),
        referrers: z.array(z.string()),
      }),
      /** Which referrers of components are carried into it: `all`, `none`, or artifact types. */
      referrers: z.array(z.string()),
      components: z.array(
        z.strictObject({
          component: z.string(),
          repository: z.string(),
          tags: z.array(
            z.strictObject({
              rule: z.string(),
              kind: z.enum(tagKinds),
              follows: z.string().nullable(),
              /** The tag that builds of the named branch get; null where no branch is named, or the rule needs more than that. */
              tag: z.string().nullable(),
            }),
          ),
        }),
      ),
    }),
  ),
});
export type ConfigShowResult = z.infer<typeof configShowResultSchema>;
