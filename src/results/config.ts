import * as z from 'zod';
import { tagKinds } from '../core/tags/rules';
import { namesOfSigner } from '../core/trust/people';
import { keyDigest } from '../core/trust/public-key';
import { trustsNobody, type TrustRules } from '../core/trust/trust-rules';
import { digest } from './common';

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
  /** Whose signatures count. */
  trust: z.strictObject({
    keys: z.array(
      z.strictObject({
        name: z.string(),
        kind: z.string(),
        digest,
        from: z.string().nullable(),
        until: z.string().nullable(),
      }),
    ),
    authorities: z.array(z.strictObject({ name: z.string(), names: z.array(z.string()) })),
    issuers: z.array(
      z.strictObject({ name: z.string(), url: z.string(), audience: z.string(), subjects: z.array(z.string()) }),
    ),
    /** The names of people whose SSH keys are known. */
    people: z.array(z.string()),
  }),
  /** Where the key is that release records and entries of the ledger are signed with, in words; null where nothing is signed. */
  sign: z.string().nullable(),
  groups: z.array(z.strictObject({ name: z.string(), people: z.array(z.string()) })),
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
        /** What some of them must be, beside having passed, in words. */
        resultRules: z.array(z.strictObject({ name: z.string(), rule: z.string() })),
        signOffs: z.number().int(),
        /** The groups whose people count; none where everybody does. */
        signOffsFrom: z.array(z.string()),
        /** Only signed sign-offs count. */
        signOffsProven: z.boolean(),
        /** Milliseconds. */
        soak: z.number(),
        freeze: z.array(z.string()),
        platforms: z.array(z.string()),
        annotations: z.array(z.string()),
        referrers: z.array(z.string()),
        attested: z.array(
          z.strictObject({
            /** The predicate type of the statement. */
            type: z.string(),
            by: z.array(z.string()),
            where: z.array(z.strictObject({ field: z.string(), values: z.array(z.string()) })),
            /** Milliseconds; null where its age does not matter. */
            noOlderThan: z.number().nullable(),
            each: z.literal('platform').nullable(),
          }),
        ),
        signedCommit: z.boolean(),
      }),
      /** What tidying keeps of it, in words; null where it keeps everything. */
      keep: z.string().nullable(),
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

export const configCompareResultSchema = z.strictObject({
  product: z.string(),
  file: z.string(),
  /** The digest of the rules of this hod.yaml. */
  digest,
  environments: z.array(
    z.strictObject({
      environment: z.string(),
      /** Null where nothing came in yet. */
      inForce: z
        .strictObject({
          digest,
          commit: z.string().nullable(),
          /** Where they stood at the head of a followed branch; null where no remote vouches for them. */
          source: z.strictObject({ remote: z.string(), branch: z.string() }).nullable(),
        })
        .nullable(),
      /** What differs, in words. */
      differences: z.array(z.string()),
      /** Whether a promotion from this checkout would be judged by these rules. */
      accepted: z.boolean(),
      /** Why, or why not; null where nothing differs. */
      reason: z.string().nullable(),
    }),
  ),
});
export type ConfigCompareResult = z.infer<typeof configCompareResultSchema>;

/** Whose signatures count, as a document. */
export function toTrust({
  keys,
  authorities,
  issuers = [],
  people,
}: TrustRules = trustsNobody): ConfigShowResult['trust'] {
  return {
    keys: keys.map((key) => {
      const { name, kind, from, until } = key;
      return { name, kind, digest: keyDigest(key), from: from ?? null, until: until ?? null };
    }),
    authorities: authorities.map(({ name, names }) => ({ name, names: [...names] })),
    issuers: issuers.map((each) => ({ ...each, subjects: [...each.subjects] })),
    people: people.map(namesOfSigner),
  };
}
