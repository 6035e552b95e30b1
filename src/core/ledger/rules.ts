import * as z from 'zod';
import { commitSchema } from '../commit';
import { digestSchema, sha256, type Digest } from '../oci/digest';
import { trustRulesSchema } from '../trust/trust-rules';
import { timestampSchema } from '../time';

/** A time of day on a clock: of every week, or of one day. */
const timeOfDay = { hour: z.number().int(), minute: z.number().int() };
const clockTimeSchema = z.union([
  z.object({ weekday: z.number().int(), ...timeOfDay }).readonly(),
  z.object({ year: z.number().int(), month: z.number().int(), day: z.number().int(), ...timeOfDay }).readonly(),
]);

/** A moment on the clock of a time zone: of every week, or of one day. */
export type ClockTime = z.infer<typeof clockTimeSchema>;

const freezeWindowSchema = z.object({ from: clockTimeSchema, to: clockTimeSchema, zone: z.string() }).readonly();

/** A time in which nothing may enter an environment. Both edges are of every week, or both of one day; `zone`: an IANA time zone. */
export type FreezeWindow = z.infer<typeof freezeWindowSchema>;

const names = z.array(z.string()).readonly();

const attestationRuleSchema = z
  .object({
    /** The predicate type (in-toto Statement v1, "predicateType"). */
    type: z.string(),
    /** The keys and authorities of `trust:` that count, any of them. */
    by: names,
    /** Fields of the statement, by the keys that lead there, and the values that they may have; `*` stands for any text. */
    where: z.array(z.object({ field: z.string(), values: names }).readonly()).readonly(),
    /** How old the statement may be, in milliseconds. */
    noOlderThan: z.number().optional(),
    /** The field that holds its time, where that is not one of the usual. */
    dated: z.string().optional(),
    /** Each image needs one that names it; else one about the index will do. */
    each: z.literal('platform').optional(),
  })
  .readonly();

/** So many findings of a severity may stand in a report. */
const findingCount = z.number().int().optional();

const resultRuleSchema = z
  .object({
    name: z.string(),
    /** The most findings of each severity; any number where it is not named. */
    atMost: z
      .object({
        critical: findingCount,
        high: findingCount,
        medium: findingCount,
        low: findingCount,
        unknown: findingCount,
      })
      .readonly()
      .optional(),
    /** How old the result may be, in milliseconds. */
    noOlderThan: z.number().optional(),
    /** Findings that do not count, and until when. */
    except: z
      .array(z.object({ id: z.string(), reason: z.string(), by: z.string(), until: timestampSchema }).readonly())
      .readonly()
      .optional(),
  })
  .readonly();

/** What a result must be, beside having passed. */
export type ResultRule = z.infer<typeof resultRuleSchema>;

/** A signed statement that every image must have. */
export type AttestationRule = z.infer<typeof attestationRuleSchema>;

const admissionRulesSchema = z
  .object({
    /** Names of results that must have passed in the environment before. */
    results: names,
    /** What some of these results must be, beside having passed. */
    resultRules: z.array(resultRuleSchema).readonly().optional(),
    /** How many people must have signed off. */
    signOffs: z.number().int(),
    /** The groups whose people count; everybody where undefined. */
    signOffsFrom: names.optional(),
    /** Only sign-offs count that a person signed with an SSH key that is trusted. */
    signOffsProven: z.literal(true).optional(),
    /** How long the environment before must have served it, in milliseconds; 0 where that does not matter. */
    soak: z.number(),
    freeze: z.array(freezeWindowSchema).readonly(),
    /** Platforms that every component must have. */
    platforms: names,
    /** Annotations that every component must have. */
    annotations: names,
    /** The artifact types of the referrers that every image must have. */
    referrers: names,
    /** Statements that every image must have, and who must have signed them. */
    attested: z.array(attestationRuleSchema).readonly().optional(),
    /** The commit must be signed by one of the people of `trust:`. */
    signedCommit: z.literal(true).optional(),
    /** Of an environment that receives parcels: the environment of the other side that must have served it. */
    served: z.string().optional(),
  })
  .readonly();

/** What an environment requires of a release before it admits it. */
export type AdmissionRules = z.infer<typeof admissionRulesSchema>;

/** The rules of an environment that admits everything. */
export const noAdmissionRules: AdmissionRules = {
  results: [],
  signOffs: 0,
  soak: 0,
  freeze: [],
  platforms: [],
  annotations: [],
  referrers: [],
};

/** The rules of a product: its environments, in which order releases pass through them, and what each requires. */
export const productRulesSchema = z.object({
  environments: z
    .array(
      z
        .object({
          name: z.string(),
          /** The environment that its releases come from; null where builds are published into it. */
          after: z.string().nullable(),
          /** Of the first: the branches whose builds take over, where hod.yaml says so. */
          follows: names.optional(),
          /** The branches that it takes releases of, where hod.yaml says so for it. */
          takes: names.optional(),
          /** The rules by which tags are written, as hod.yaml has them, each with its kind; those of one component with its name. */
          tags: names.optional(),
          /** Parcels are published into it, and no builds. */
          receives: z.literal('parcels').optional(),
          gates: admissionRulesSchema,
        })
        .readonly(),
    )
    .readonly(),
  /** Whom the product trusts; undefined where hod.yaml does not say. */
  trust: trustRulesSchema.optional(),
  /** Groups of people, by their names. */
  groups: z
    .array(z.object({ name: z.string(), people: names }).readonly())
    .readonly()
    .optional(),
});
export type ProductRules = z.infer<typeof productRulesSchema>;
/** The rules of one environment. */
export type EnvironmentRules = ProductRules['environments'][number];

/** A branch of the remote that all clones share: `host/path` of the remote, and the name of the branch. */
const rulesSourceSchema = z.object({ remote: z.string(), branch: z.string() });
export type RulesSource = z.infer<typeof rulesSourceSchema>;

/** Rules by their digest, and the commit whose hod.yaml says so; undefined where that is not in git. */
export const namedRulesSchema = z.object({
  digest: digestSchema,
  commit: commitSchema.optional(),
  /** Where they stood at the head of a followed branch; undefined where nobody could tell. */
  source: rulesSourceSchema.optional(),
});
export type NamedRules = z.infer<typeof namedRulesSchema>;

/** The rules that an arrival was judged by, as its entry has them. */
export const judgedBySchema = namedRulesSchema.extend({
  /** The rules themselves, where the ledger did not have them yet. */
  rules: productRulesSchema.optional(),
  /** They are in force from then on. */
  inForce: z.boolean().optional(),
});
export type JudgedBy = z.infer<typeof judgedBySchema>;

/** Returns the digest of rules: the same for all that say the same. */
export function rulesDigest(rules: ProductRules): Digest {
  return sha256(JSON.stringify(productRulesSchema.parse(rules)));
}

/** Returns the rules of an environment; undefined where there is none of this name. */
export function rulesOf({ environments }: ProductRules, name: string): EnvironmentRules | undefined {
  return environments.find((each) => each.name === name);
}

/** Returns what an environment asks of a release; nothing where there is none of this name. */
export function admissionRulesIn(rules: ProductRules, name: string): AdmissionRules {
  return rulesOf(rules, name)?.gates ?? noAdmissionRules;
}

/** Returns the environments through which releases come into one, the first to the last, itself included. */
export function wayTo(rules: ProductRules, name: string): string[] {
  const way: string[] = [];
  for (let at = rulesOf(rules, name); at !== undefined && !way.includes(at.name);) {
    way.unshift(at.name);
    at = at.after === null ? undefined : rulesOf(rules, at.after);
  }
  return way;
}
