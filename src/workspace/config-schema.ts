import * as z from 'zod';
import { whyExposed } from '../core/access/destinations';
import { sendsIdentity, tokenExchange, type IdentityExchange } from '../core/access/identity-exchange';
import { bodyPlaceholders, parseBody, unknownPlaceholders } from '../core/ledger/announcement-body';
import { announcedKinds } from '../core/ledger/announcements';
import { isResultName } from '../core/ledger/result-name';
import { isTimeZone, isWindow, parseClockTime } from '../core/release/gates/freeze-window';
import { chosenFollows, type ChosenFollows } from '../core/tags/rules';
import { compressions } from '../core/oci/compression';
import { mediaTypeSchema } from '../core/oci/descriptor';
import { environmentVariable, nameSchema } from './config-fields';
import { variablesSchema } from './config-variables';
import { millisecondsOf } from '../core/amounts';
import { isTimestamp, type Timestamp } from '../core/time';

const resultName = z.string().refine(isResultName, 'must be lower-case letters, digits and . _ -, 64 at most');
/** A value that is not a secret, or the place of one: an environment variable, or a file. */
const place = z.union(
  [z.strictObject({ env: environmentVariable }), z.strictObject({ file: z.string().min(1) })],
  'must be { env: VARIABLE } or { file: PATH }',
);
const commandLine = z.array(z.string().min(1)).min(1);

/** A time such as `24h`, in milliseconds. */
const time = z
  .string()
  .regex(/^[1-9]\d{0,5}(s|m|h|d)$/, 'must be a number of seconds, minutes, hours or days: 90s, 30m, 24h, 7d')
  .transform(millisecondsOf);

/** A day, or a time, in UTC. */
const moment = z.string().transform((text, context): Timestamp => {
  const full = /^\d{4}-\d\d-\d\d$/.test(text) ? `${text}T00:00:00Z` : text;
  if (!isTimestamp(full)) {
    context.addIssue('must be a day or a time in UTC: 2026-12-31, 2026-12-31T18:00:00Z');
    return z.NEVER;
  }
  return full;
});

/** Where in a document something stands: `session.token`. */
const fieldPath = z.string().regex(/^[^.\s]+(\.[^.\s]+)*$/, 'must be the keys that lead there, with dots between them');
const expiryPlaces = { expires: fieldPath.optional(), 'expires-in': fieldPath.optional() };
const texts = z.record(z.string().min(1), z.string());

/** An exchange of identities that is not the one of RFC 8693, described. */
const exchangeSchema = z
  .strictObject({
    url: z.url(),
    method: z.enum(['GET', 'POST']).optional(),
    headers: texts.optional(),
    form: texts.optional(),
    json: z.record(z.string(), z.json()).optional(),
    answer: z.union(
      [
        z.strictObject({ token: fieldPath, ...expiryPlaces }),
        z.strictObject({ username: fieldPath, password: fieldPath, ...expiryPlaces }),
        z.strictObject({ user: z.string().min(1), password: fieldPath, ...expiryPlaces }),
        z.strictObject({ basic: fieldPath, ...expiryPlaces }),
      ],
      'must be { token }, { username, password }, { user: NAME, password } or { basic }, with paths such as session.token',
    ),
  })
  .refine(
    ({ method = 'POST', form, json }) =>
      (form === undefined || json === undefined) && (method === 'POST' || (form ?? json) === undefined),
    'must send form: or json:, not both, and neither with method: GET',
  )
  .transform(({ url, method = 'POST', headers = {}, form, json, answer }): IdentityExchange => ({
    url,
    method,
    headers,
    body: form !== undefined ? { form } : json !== undefined ? { json } : undefined,
    answer,
  }))
  .refine(sendsIdentity, 'must send the identity of the job: write {token} where it belongs, in headers, form or json');

/** Where the identity token of a job stands, or how its CI is asked for it. */
const jobToken = z.union([
  place,
  z.strictObject({ request: z.strictObject({ url: environmentVariable, bearer: environmentVariable }) }),
]);
export type JobTokenPlace = z.infer<typeof jobToken>;

const credentialsSchema = z.union(
  [
    z.literal('none'),
    z.strictObject({ username: z.union([z.string().min(1), place]), password: place }),
    /** It prints a document of ours. */
    z.strictObject({ command: commandLine }),
    /** It prints the password of a user, or a token, and nothing else. */
    z.strictObject({ command: commandLine, user: z.string().min(1), 'expires-in': time.optional() }),
    z.strictObject({ command: commandLine, prints: z.literal('token'), 'expires-in': time.optional() }),
    z.strictObject({
      job: z.strictObject({
        token: jobToken,
        audience: z.string().min(1).optional(),
        exchange: z.union([z.url().transform(tokenExchange), exchangeSchema]),
      }),
    }),
  ],
  'must be none, { username, password }, { command }, { command, user }, { command, prints: token }, or { job: { token, exchange } }; see docs/access.md',
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
/** A command that prints the login of a registry. */
export type CredentialCommand = Extract<RegistryConfig['credentials'], { command: unknown }>;
/** One that prints a password or a token alone. */
export type BareCommand = Extract<CredentialCommand, { user: string } | { prints: 'token' }>;
/** How hod.yaml says that a registry is reached. Secrets are named, never written there. */
export type RegistryConfig = z.infer<typeof registrySchema>;

const paths = z.union(
  [z.string().min(1), z.array(z.string().min(1)).min(1)],
  'must be a path, a reference, or a list of them',
);

const isFilled = (record: object): boolean => Object.keys(record).length > 0;

/** Files that something is made of, as patterns (`services/timetable/**`). */
const patterns = z.array(z.string().min(1)).min(1);

/** A moving tag: a template, which says what it follows; or one, and what that is. */
const movingRule = z
  .union(
    [z.string(), z.strictObject({ tag: z.string(), follows: z.enum(chosenFollows, 'must be environment or release') })],
    'must be a text, or { tag: TEXT, follows: environment }',
  )
  .transform((rule): { tag: string; follows?: ChosenFollows } => (typeof rule === 'string' ? { tag: rule } : rule));

const tagRules = z
  .strictObject({ fixed: z.array(z.string()).optional(), moving: z.array(movingRule).optional() })
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

const oneOrMore = <T extends z.ZodType>(one: T, what: string) => z.union([one, z.array(one).min(1)], what);
const fieldValue = z.union([z.string(), z.number(), z.boolean()]);

/** A signed statement that every image needs. */
const attestationSchema = z.strictObject({
  type: z.string().min(1),
  by: oneOrMore(nameSchema, 'must be a name of `trust:`, or a list of names'),
  where: z
    .record(fieldPath, oneOrMore(fieldValue, 'must be a value, or a list of values'))
    .refine((fields) => Object.keys(fields).length > 0, 'there is none')
    .optional(),
  'no-older-than': time.optional(),
  dated: fieldPath.optional(),
  each: z.literal('platform', 'must be platform').optional(),
});

const findings = z.number().int().min(0).optional();
/** What a result must be, beside having passed. */
const resultRule = z.strictObject({
  name: resultName,
  'at-most': z
    .strictObject({ critical: findings, high: findings, medium: findings, low: findings, unknown: findings })
    .refine((limits) => Object.keys(limits).length > 0, 'there is none')
    .optional(),
  'no-older-than': time.optional(),
  /** A file of findings that do not count. */
  except: z.string().min(1).optional(),
});

const signOffCount = z.number().int().min(1).max(20);

/** What a release needs to enter an environment. */
const gatesSchema = z.strictObject({
  /** Of an environment that receives parcels: where on the other side it was served, and has its results. */
  served: z.string().min(1).optional(),
  results: z
    .array(z.union([resultName, resultRule], 'must be a name, or { name, at-most, no-older-than, except }'))
    .min(1)
    .optional(),
  'sign-offs': z
    .union(
      [
        signOffCount,
        z.strictObject({
          count: signOffCount,
          from: z.array(nameSchema).min(1).optional(),
          proven: z.literal(true, 'must be true, or left out').optional(),
        }),
      ],
      'must be a number of people, or { count, from: [GROUP], proven: true }',
    )
    .optional(),
  soak: time.optional(),
  freeze: z.array(freezeWindow).min(1).optional(),
  platforms: z.array(z.string()).min(1).optional(),
  annotations: z.array(z.string().min(1)).min(1).optional(),
  referrers: z.array(mediaTypeSchema).min(1).optional(),
  attested: z.array(attestationSchema).min(1).optional(),
  'signed-commit': z.literal(true, 'must be true, or left out').optional(),
});

/** Which referrers are carried with the components. */
const referrersSchema = z.strictObject({
  carry: z.union(
    [z.enum(['all', 'none']), z.array(mediaTypeSchema).min(1)],
    'must be all, none, or a list of artifact types',
  ),
});

const keptCount = z.number().int().min(1).max(100_000);

/** What tidying keeps of an environment, beside what is needed. */
const keepSchema = z
  .strictObject({
    releases: keptCount.optional(),
    for: z
      .string()
      .regex(/^[1-9]\d{0,4}(h|d|w|y)$/, 'must be a number of hours, days, weeks or years: 12h, 14d, 6w, 2y')
      .transform(millisecondsOf)
      .optional(),
    branches: keptCount.optional(),
    rollbacks: z.number().int().min(0).max(100).optional(),
  })
  .refine(
    (keep) => keep.releases !== undefined || keep.for !== undefined,
    'must have releases: NUMBER or for: TIME, or both; an environment without `keep` keeps everything',
  );

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
  keep: keepSchema.optional(),
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
export const receiverSchema = z
  .strictObject({
    /** Where it is told. An address that is a secret, as those of many chats are, stands elsewhere. */
    url: z.union([
      z
        .url({ protocol: /^https?$/, error: 'must be an address, https://…, or { env: VARIABLE } or { file: PATH }' })
        .refine((text) => !/^\w+:\/\/[^/]*@/.test(text), 'must hold no login; it would stand here for all to read'),
      place,
    ]),
    /** What announcements are signed with; CloudEvents always are. */
    key: place.optional(),
    kinds: z.array(z.enum(announcedKinds)).min(1).optional(),
    /** What is sent instead of a CloudEvent: a text or a JSON document with placeholders. */
    body: z
      .union(
        [z.string().min(1), z.record(z.string(), z.unknown())],
        'must be a text, or a document, with placeholders such as {text}',
      )
      .superRefine((body, context) => {
        for (const name of unknownPlaceholders(parseBody(body))) {
          context.addIssue(`there is no placeholder {${name}}; there are ${bodyPlaceholders.join(' ')}`);
        }
      })
      .optional(),
  })
  .refine(
    ({ key, body }) => key !== undefined || body !== undefined,
    'key is missing: { env: VARIABLE } or { file: PATH }; only a receiver with a `body:` of its own needs none',
  );

/** A file with a public key, and when the key counts. */
const keyFile = z
  .strictObject({ file: z.string().min(1), from: moment.optional(), until: moment.optional() })
  .refine(
    ({ from, until }) => from === undefined || until === undefined || Date.parse(from) < Date.parse(until),
    'must have from before until',
  );

/** Whom the product trusts. */
export const trustSchema = z.strictObject({
  keys: z.record(nameSchema, oneOrMore(keyFile, 'must be { file: PATH }, or a list of them')).optional(),
  authorities: z
    .record(nameSchema, z.strictObject({ file: z.string().min(1), names: z.array(z.string().min(1)).min(1) }))
    .optional(),
  /** Who gives jobs their identity: its address, whom its tokens must be meant for, and the jobs that count. */
  issuers: z
    .record(
      nameSchema,
      z.strictObject({
        url: z
          .url({ protocol: /^https?$/, error: 'must be the address of the issuer, https://…' })
          .refine((text) => whyExposed(new URL(text)) === undefined, 'must begin with https://'),
        audience: z.string().min(1),
        subject: oneOrMore(
          z.string().min(1),
          'must be the subject of a token, with `*` for any text, or a list of them',
        ),
        token: jobToken,
      }),
    )
    .optional(),
  people: z.strictObject({ file: z.string().min(1) }).optional(),
});

/** What signs: a private key in PEM, or a command that reads what to sign and prints the signature. */
const signingKey = z.union(
  [place, z.strictObject({ command: z.array(z.string().min(1)).min(1) })],
  'must be { env: VARIABLE }, { file: PATH } or { command: [PROGRAM, ARGUMENT] }',
);
export type SigningKey = z.infer<typeof signingKey>;

/** Findings that do not count: which, why, who says so, and until when. */
export const exceptionsSchema = z.array(
  z.strictObject({ id: z.string().min(1), reason: z.string().min(1), by: z.string().min(1), until: moment }),
);

/** The form of hod.yaml. What its names lead to is checked apart. */
export const configSchema = z.strictObject({
  /** A file whose environments, registries and ledger are meant too. */
  extends: z.string().min(1).optional(),
  product: nameSchema,
  /** Values that differ by stage or account: `{variable.NAME}` in repositories, registries and URLs. */
  variables: variablesSchema.optional(),
  images: z.record(nameSchema, imageSchema).refine(isFilled, 'there is none'),
  bundles: z.record(nameSchema, bundleSchema).optional(),
  includes: z.record(nameSchema, inclusionSchema).optional(),
  'shared-inputs': patterns.optional(),
  /** Paths in images that `inside --check` lets pass. */
  'allowed-inside': patterns.optional(),
  environments: z.record(nameSchema, environmentSchema).refine(isFilled, 'there is none'),
  registries: z.record(z.string(), registrySchema).optional(),
  /** Whose signatures count. */
  trust: trustSchema.optional(),
  /** What signs release records and the entries of the ledger. */
  sign: z.strictObject({ key: signingKey }).optional(),
  /** People by group, for sign-offs. */
  groups: z.record(nameSchema, z.array(z.string().min(1)).min(1)).optional(),
  /** False: logins that other tools on this machine share are not used. */
  'shared-logins': z.boolean().optional(),
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

/** The identity of the job that hod.yaml names as the login of a registry; undefined where it names another, or none. */
export function jobOf({ credentials }: RegistryConfig) {
  return credentials !== undefined && credentials !== 'none' && 'job' in credentials ? credentials.job : undefined;
}
