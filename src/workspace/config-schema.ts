import * as z from 'zod';
import { announcedKinds } from '../core/ledger/announcements';
import { isResultName } from '../core/ledger/result-name';
import { isTimeZone, isWindow, parseClockTime } from '../core/release/gates/freeze-window';
import { compressions } from '../core/oci/compression';
import { mediaTypeSchema } from '../core/oci/descriptor';
import { millisecondsOf } from '../core/amounts';
import { nameGrammar } from '../core/names';

const nameSchema = z
  .string()
  .regex(nameGrammar, 'must be lower-case letters and digits with single - _ . between them');
const resultName = z.string().refine(isResultName, 'must be lower-case letters, digits and . _ -, 64 at most');
const variable = z.string().regex(/^[A-Za-z_][A-Za-z0-9_]*$/, 'must name a variable');
/** A value that is not a secret, or the place of one: an environment variable, or a file. */
const place = z.union(
  [z.strictObject({ env: variable }), z.strictObject({ file: z.string().min(1) })],
  'must be { env: VARIABLE } or { file: PATH }',
);
const commandLine = z.array(z.string().min(1)).min(1);

const credentialsSchema = z.union(
  [
    z.strictObject({ username: z.union([z.string().min(1), place]), password: place }),
    z.strictObject({ command: commandLine }),
    z.strictObject({
      job: z.strictObject({
        token: z.union([place, z.strictObject({ request: z.strictObject({ url: variable, bearer: variable }) })]),
        audience: z.string().min(1).optional(),
        exchange: z.url(),
      }),
    }),
  ],
  'must be { username, password }, { command }, or { job: { token, exchange } }; see docs/access.md',
);

/** How a registry is reached. */
export const registrySchema = z.strictObject({
  tls: z
    .union(
      [
        z.literal(false),
        z.strictObject({
          ca: z.string().optional(),
          'client-certificate': z.string().optional(),
          'client-key': z.string().optional(),
        }),
      ],
      'must be false, or { ca: FILE, client-certificate: FILE, client-key: FILE }',
    )
    .optional(),
  credentials: credentialsSchema.optional(),
  /** The host that issues access tokens, where it is not the registry's own. */
  'token-service': z.string().min(1).optional(),
  'create-repository': commandLine.optional(),
});

/** The place of a secret: an environment variable, or a file. */
export type SecretPlace = z.infer<typeof place>;
/** How hod.yaml says that a registry is reached. Secrets are named, never written there. */
export type RegistryConfig = z.infer<typeof registrySchema>;

const paths = z.union(
  [z.string().min(1), z.array(z.string().min(1)).min(1)],
  'must be a path, a reference, or a list of them',
);

const isFilled = (record: object): boolean => Object.keys(record).length > 0;

/** Files that something is made of, as patterns (`services/timetable/**`). */
const patterns = z.array(z.string().min(1)).min(1);

const tagRules = z
  .strictObject({ fixed: z.array(z.string()).optional(), moving: z.array(z.string()).optional() })
  .refine(({ fixed = [], moving = [] }) => fixed.length + moving.length > 0, 'there is none');

/** Tags that a component has of its own, in some environments. */
const ownTags = z.record(nameSchema, tagRules);

/** Names that a component had before. */
const formerNames = z.union([nameSchema, z.array(nameSchema).min(1)], 'must be a name or a list of names');

/** An image in hod.yaml. */
export const imageSchema = z.strictObject({
  from: paths,
  platforms: z.array(z.string()).min(1).optional(),
  compress: z.enum(compressions, 'must be gzip or none').optional(),
  inputs: patterns.optional(),
  'publish-alone': z.boolean().optional(),
  was: formerNames.optional(),
  tags: ownTags.optional(),
});

/** A bundle in hod.yaml. */
export const bundleSchema = z.strictObject({
  files: z.string().min(1),
  inputs: patterns.optional(),
  'publish-alone': z.boolean().optional(),
  was: formerNames.optional(),
  tags: ownTags.optional(),
});

/** A time such as `24h`, in milliseconds. */
const time = z
  .string()
  .regex(/^[1-9]\d{0,5}(s|m|h|d)$/, 'must be a number of seconds, minutes, hours or days: 90s, 30m, 24h, 7d')
  .transform(millisecondsOf);

const clockTime = z.string().transform((text, context) => {
  const parsed = parseClockTime(text);
  if (parsed === undefined) {
    context.addIssue('must be a day of the week or a date, and a time: fri 16:00, 2026-12-20 16:00');
    return z.NEVER;
  }
  return parsed;
});

const freezeWindow = z
  .strictObject({
    from: clockTime,
    to: clockTime,
    zone: z.string().refine(isTimeZone, 'must name a time zone, such as Europe/Dublin'),
  })
  .refine(
    ({ from, to }) => isWindow(from, to),
    'from and to must both be days of the week, or both dates, the later one last',
  );

/** What a release needs to enter an environment. */
const gatesSchema = z.strictObject({
  /** Of an environment that receives parcels: where on the other side it was served, and has its results. */
  served: z.string().min(1).optional(),
  results: z.array(resultName).min(1).optional(),
  'sign-offs': z.number().int().min(1).max(20).optional(),
  soak: time.optional(),
  freeze: z.array(freezeWindow).min(1).optional(),
  platforms: z.array(z.string()).min(1).optional(),
  annotations: z.array(z.string().min(1)).min(1).optional(),
  referrers: z.array(mediaTypeSchema).min(1).optional(),
});

/** Which referrers are carried with the components. */
const referrersSchema = z.strictObject({
  carry: z.union(
    [z.enum(['all', 'none']), z.array(mediaTypeSchema).min(1)],
    'must be all, none, or a list of artifact types',
  ),
});

/** An environment in hod.yaml. */
export const environmentSchema = z.strictObject({
  after: z.string().optional(),
  /** Of the first: the branches whose builds take over. */
  follows: z.array(z.string().min(1)).min(1).optional(),
  /** Of the first: it takes releases of another side in parcels, and no builds. */
  receives: z.literal('parcels').optional(),
  /** Of all others: the branches whose releases come in; those that the first follows where it is not given. */
  takes: z.array(z.string().min(1)).min(1).optional(),
  repository: z.string(),
  tags: tagRules,
  gates: gatesSchema.optional(),
  referrers: referrersSchema.optional(),
});
/** An environment of the right form. */
export type RawEnvironment = z.infer<typeof environmentSchema>;

/** Where in git a ledger is: which names git allows for references is said by `git help check-ref-format`. */
const gitLedgerSchema = z.strictObject({
  remote: z.string().min(1).optional(),
  ref: z
    .string()
    .regex(
      /^refs(\/(?![.])(?!.*\.lock(\/|$))(?!.*\.\.)[^\x00-\x20\x7f~^:?*[\\/@]+(?<!\.))+$/,
      'must be the full name of a reference, such as refs/hod/{product}',
    )
    .optional(),
});

/** Where a ledger is. */
export const ledgerSchema = z.union(
  [
    z.strictObject({ file: z.string().min(1) }),
    z.strictObject({ git: gitLedgerSchema }),
    z.strictObject({ postgres: place }),
  ],
  'must be { file: PATH }, { git: { remote: NAME } } or { postgres: { env: VARIABLE } }',
);

/** A component that another product builds: by its reference, or by what an environment of that product serves. */
export const inclusionSchema = z
  .strictObject({
    from: z.string().min(1).optional(),
    product: nameSchema.optional(),
    ledger: ledgerSchema.optional(),
    environment: nameSchema.optional(),
    component: nameSchema.optional(),
    platforms: z.array(z.string()).min(1).optional(),
    was: formerNames.optional(),
  })
  .refine(
    ({ from, product, ledger, environment, component }) =>
      from === undefined
        ? [product, ledger, environment].every((each) => each !== undefined)
        : [product, ledger, environment, component].every((each) => each === undefined),
    'must have from: REFERENCE alone, or product, ledger and environment of the product that builds it',
  );

/** Who is told of what happened. */
export const receiverSchema = z.strictObject({
  url: z
    .url({ protocol: /^https?$/, error: 'must be an address, https://…' })
    .refine((text) => !/^\w+:\/\/[^/]*@/.test(text), 'must hold no login; it would stand here for all to read'),
  /** What announcements are signed with. */
  key: place,
  kinds: z.array(z.enum(announcedKinds)).min(1).optional(),
});

/** The form of hod.yaml. What its names lead to is checked apart. */
export const configSchema = z.strictObject({
  /** A file whose environments, registries and ledger are meant too. */
  extends: z.string().min(1).optional(),
  product: nameSchema,
  images: z.record(nameSchema, imageSchema).refine(isFilled, 'there is none'),
  bundles: z.record(nameSchema, bundleSchema).optional(),
  includes: z.record(nameSchema, inclusionSchema).optional(),
  'shared-inputs': patterns.optional(),
  /** Paths in images that `inside --check` lets pass. */
  'allowed-inside': patterns.optional(),
  environments: z.record(nameSchema, environmentSchema).refine(isFilled, 'there is none'),
  registries: z.record(z.string(), registrySchema).optional(),
  announce: z.record(nameSchema, receiverSchema).optional(),
  'version-tags': z
    .string()
    .regex(/^[^{}]*\{version\}[^{}]*$/, 'must hold {version}, once, such as timetable/v{version}')
    .optional(),
  ledger: ledgerSchema.optional(),
});
/** A hod.yaml of the right form. */
export type RawConfig = z.infer<typeof configSchema>;
/** What hod.yaml says of an included component. */
export type RawInclusion = z.infer<typeof inclusionSchema>;
