import * as z from 'zod';
import { commitSchema } from '../commit';
import { issuesToText } from '../json';
import { HodError, messageOf } from '../errors';
import { digestSchema, digitsOf, sha256, type Digest } from '../oci/digest';
import { repositoryNameSchema, type RepositoryName } from '../oci/reference';
import { tagKinds } from '../tags/rules';
import { tagSchema, type Tag } from '../oci/tag';
import { reportSummarySchema } from '../reports/summary';
import { versionSchema } from '../tags/version';
import { timestampSchema } from '../time';
import {
  contentIdSchema,
  originFields,
  placedComponentSchema,
  releaseIdSchema,
  releaseImageSchema,
  type ContentId,
} from './release';
import { namedRulesSchema, productRulesSchema } from './rules';
import { waySchema } from './way';

/**
 * The state of a product: small facts under keys, each kept current by the fold of the entries that
 * concern it. A reader asks for the facts it needs, so reading costs the same however long the
 * ledger is. What stands under names from outside is a list, never a record.
 */

/** A component that an environment serves. */
const servedComponentSchema = placedComponentSchema.extend({
  version: versionSchema.optional(),
  commit: commitSchema,
  release: releaseIdSchema,
  /** Since when the environment serves it, and the step at which its release took over. */
  since: timestampSchema,
  step: z.number().int(),
  by: z.string(),
  /** The tags that were pointed to it then. */
  tags: z.array(tagSchema),
  /** The environment served it before its ledger began. */
  adopted: z.literal(true).optional(),
});

/** The newest of a component on a line of versions or on a branch, in an environment; `since`: it is the newest since then. */
const laneHeadSchema = servedComponentSchema;

/** What a tag points to by decision of the ledger, and the release that it was set for. */
export const tagTargetFields = {
  digest: digestSchema,
  release: releaseIdSchema,
  commit: commitSchema,
  version: versionSchema.optional(),
  /** Of a tag that leads to one image of an index: the platform of that image. */
  platform: z.string().optional(),
};
const tagTargetSchema = z.object(tagTargetFields);

/** What becomes of a lane, and of a moving tag; null where nothing stands there. Fixed tags stay for ever. */
const laneChangeSchema = z.object({ lane: z.string(), component: z.string(), is: laneHeadSchema.nullable() });
export const tagPlaceSchema = z.object({ component: z.string(), repository: repositoryNameSchema, tag: tagSchema });
const tagChangeSchema = tagPlaceSchema.extend({ is: tagTargetSchema.nullable() });

/** A component of an environment that moved: where it is by now, and where it was before, the latest first. */
const movedPlaceSchema = z.object({
  component: z.string(),
  repository: repositoryNameSchema,
  former: z.array(repositoryNameSchema),
});
export type MovedPlace = z.infer<typeof movedPlaceSchema>;

/** What an arrival or a rollback changed, and what stood there before; null where nothing did. */
const changesSchema = z.object({
  served: z.array(z.object({ component: z.string(), was: servedComponentSchema.nullable() })),
  lanes: z.array(laneChangeSchema.extend({ was: laneHeadSchema.nullable() })),
  tags: z.array(tagChangeSchema.extend({ was: tagTargetSchema.nullable() })),
});

/** What an environment serves, and what stands under lanes and tags, after a rollback; null where nothing does. */
export const rollbackChangesSchema = z.object({
  served: z.array(z.object({ component: z.string(), is: servedComponentSchema.nullable() })),
  lanes: z.array(laneChangeSchema),
  /** `instead`: what a tag that is to go leads to where the registry removes no tags. */
  tags: z.array(tagChangeSchema.extend({ instead: digestSchema.optional() })),
});
export type RollbackChanges = z.infer<typeof rollbackChangesSchema>;

/** A line of versions or a branch that was rolled back alone, and the releases that it left behind. */
export const leftBehindSchema = z.object({ lane: z.string(), releases: z.array(releaseIdSchema) });

/** What was staged of a component. */
const stagedComponentSchema = z.object({
  component: z.string(),
  /** Each for other platforms, or one for all. */
  parts: z.array(placedComponentSchema.omit({ component: true })),
  /** Its build failed after that. */
  failed: z.object({ reason: z.string(), at: timestampSchema, by: z.string() }).optional(),
});

/** A part that is staged in a repository, and the build that it is of. */
const stagedInSchema = placedComponentSchema
  .pick({ component: true, digest: true, mediaType: true, size: true })
  .extend({ commit: commitSchema });
/** So many parts are protected in a repository: builds that nobody publishes are forgotten, the oldest first. */
export const stagedInLimit = 100;

/** What the ledger knows some content as, what says the most first: a component, one of its images, the config of an image, or a referrer. */
export const digestRoles = ['component', 'image', 'config', 'referrer'] as const;

/** What a digest is. */
const knownDigestSchema = z.object({
  digest: digestSchema,
  is: z.enum(digestRoles),
  /** Of what holds a component: its name. */
  component: z.string().optional(),
  /** `os/arch[/variant]` of an image or a config. */
  platform: z.string().optional(),
  /** The artifact type of a referrer. */
  type: z.string().optional(),
  /** What holds it, and of a referrer what it refers to: the latest {@link holdersKept}, the latest last. */
  of: z.array(digestSchema).optional(),
  /** Of a component: its releases, the first and the latest {@link holdersKept}, the latest last; `count`: how many there are. */
  releases: z.array(releaseIdSchema).optional(),
  count: z.number().int().optional(),
});
export type KnownDigest = z.infer<typeof knownDigestSchema>;
/** So many releases and holders of a digest are kept. */
export const holdersKept = 16;

const factSchemas = {
  /**
   * Key: an environment. What it serves, component by component, and how often that or a tag of it has changed; `from`: the
   * environment that its releases come from, null where builds are published into it; `lanes`: the lines of versions and the
   * followed branches whose newest had a moving tag there; `gone`: the tags that were removed by rollbacks, and that no release has
   * taken since; `once`: the components that it served once, and serves no more; `places`: the components that moved to another
   * repository. Steps name the repositories of their time; tags and what is served, those of now. `adopting`: nothing came in so far
   * but what was adopted.
   */
  environment: z.object({
    steps: z.number().int(),
    components: z.array(servedComponentSchema),
    from: z.string().nullable().optional(),
    lanes: z.array(z.string()),
    gone: z.array(tagPlaceSchema),
    once: z.array(z.string()),
    places: z.array(movedPlaceSchema).optional(),
    adopting: z.literal(true).optional(),
  }),
  /**
   * Key: {@link stepKey}. What changed in an environment when a release came, or at a rollback, and
   * what was there before. `together`: it was one decision with the step before. `back`: a rollback, to the
   * environment as it was after that step. `left`: a rollback of one lane, and the releases that were
   * withdrawn from it. `withdrew`: the releases that a rollback withdrew.
   */
  step: changesSchema.extend({
    at: timestampSchema,
    of: z.object({ release: releaseIdSchema, commit: commitSchema, version: versionSchema.optional() }).optional(),
    /** The fixed tags that came then, for ever. */
    fixed: z.array(tagPlaceSchema),
    together: z.boolean(),
    back: z.number().int().optional(),
    left: leftBehindSchema.optional(),
    withdrew: z.array(releaseIdSchema),
    reason: z.string().optional(),
  }),
  /** Key: {@link laneKey}. The newest of each component there. */
  lane: z.array(laneHeadSchema),
  /** Key: {@link withdrawnKey}. Content that an environment was rolled back from; null where it came back on purpose. */
  withdrawn: z.object({ release: releaseIdSchema, at: timestampSchema, by: z.string(), reason: z.string() }).nullable(),
  /**
   * Key: `registry/name:tag`. What the tag points to by decision of the ledger; `gone`: what it must not point to any
   * more, and `instead`: where it is pointed if it cannot be removed; `earlier`: what a moving tag pointed to before, the
   * latest first, as far as it is kept. `tidied`: the fixed tag was removed with its content; no other content takes it.
   */
  tag: tagTargetSchema.extend({
    kind: z.enum(tagKinds),
    gone: z.boolean().optional(),
    tidied: z.literal(true).optional(),
    instead: digestSchema.optional(),
    earlier: z.array(digestSchema).optional(),
    seq: z.number().int(),
  }),
  /** Key: the id of a release. */
  release: z.object({
    ...originFields,
    /** When it was first published. */
    at: timestampSchema,
    components: z.array(placedComponentSchema),
    /** Every component that the product had then, where the release holds only some of them. */
    lists: z.array(z.string()).optional(),
    /** The branches that it was built of, or that contain its commit; of the builds of pull requests, none. */
    branches: z.array(z.string()),
    /** Who published it. */
    by: z.string(),
    /** Every image that its components hold; undefined where nobody said. */
    images: z.array(releaseImageSchema).optional(),
    /** The signature under its record, in base64; undefined where it was published unsigned. */
    recordSignature: z.string().optional(),
    /**
     * How its components came into which environments; `from`: the environment that they came from, null where they were published
     * there; `rules`: the digest of the rules that admitted them; `until`: something else took over from it then; `left`: its line
     * was rolled back from it then; `adopted`: it was there before the ledger began, and `since` is when that was recorded;
     * `seq`: the entry that says that it came.
     */
    arrived: z.array(
      z.object({
        environment: z.string(),
        component: z.string(),
        way: waySchema,
        from: z.string().nullable(),
        since: timestampSchema,
        seq: z.number().int(),
        until: timestampSchema.optional(),
        left: timestampSchema.optional(),
        rules: digestSchema.optional(),
        adopted: z.literal(true).optional(),
      }),
    ),
  }),
  /** Key: the digest of rules by which releases were judged. */
  rules: productRulesSchema,
  /** Key: none, for the rules of the whole product; or an environment, for those that people accepted for it. The later count. */
  'rules-in-force': namedRulesSchema.extend({ rules: productRulesSchema, seq: z.number().int() }),
  /** Key: {@link approvedKey}. Who accepts rules for an environment that has other ones. */
  'rules-approved': z.array(
    z.object({
      by: z.string(),
      at: timestampSchema,
      reason: z.string(),
      /** The signature of the person (OpenSSH, PROTOCOL.sshsig), or the issuer whose keys verified which job it was. */
      signature: z.string().optional(),
      issuer: z.string().optional(),
    }),
  ),
  /** Key: the id of content. What was found out about it: the latest of each name and place, and of each person. */
  evidence: z.object({
    results: z.array(
      z.object({
        name: z.string(),
        environment: z.string(),
        passed: z.boolean(),
        at: timestampSchema,
        by: z.string(),
        link: z.string().optional(),
        report: reportSummarySchema.optional(),
      }),
    ),
    signOffs: z.array(
      z.object({
        environment: z.string(),
        at: timestampSchema,
        by: z.string(),
        /** The signature of the person (OpenSSH, PROTOCOL.sshsig), and the rules of the environment that it was made under. */
        signature: z.string().optional(),
        rules: digestSchema.optional(),
        /** The issuer under `trust:` whose keys verified in that run which job it was. */
        issuer: z.string().optional(),
      }),
    ),
    /** Everybody who published this content, under whatever version. */
    publishers: z.array(z.string()),
  }),
  /** Key: a version. The release that has it, and the name of what that holds. */
  version: z.object({ release: releaseIdSchema, content: contentIdSchema }),
  /** Key: a full commit id. The newest release of it; one with a version goes before one without. */
  commit: z.object({ release: releaseIdSchema, version: versionSchema.optional(), content: contentIdSchema }),
  /** Key: a line of versions. The highest release on it; pre-releases do not count. */
  line: z.object({ version: versionSchema, commit: commitSchema, content: contentIdSchema }),
  /** Key: a full commit id. What was staged of it, component by component. */
  staged: z.array(stagedComponentSchema),
  /** Key: `registry/name`. What is staged in the repository and was not published yet: the latest {@link stagedInLimit}, the latest last. */
  'staged-in': z.array(stagedInSchema),
  /** Key: {@link digestFact}. What the digests are that begin with these digits. */
  digest: z.array(knownDigestSchema),
  /** Key: {@link referrersKey}. The referrers of a manifest: they name it as their subject, or stand under a tag for it. */
  referrers: z.array(
    z.object({
      digest: digestSchema,
      type: z.string(),
      tag: tagSchema.optional(),
      /** When the ledger first knew of it. */
      at: timestampSchema.optional(),
    }),
  ),
  /**
   * Key: {@link removalKey}. A manifest that tidying removes from a repository, or has removed; null where it is there again, or could
   * not be removed. `keep`: what the environments keep that let it go.
   */
  removal: z
    .object({
      state: z.enum(['removing', 'removed']),
      at: timestampSchema,
      by: z.string(),
      keep: z.string(),
      seq: z.number().int(),
    })
    .nullable(),
  /** Key: a repository. How many digests tidying has removed from it, and who did it last, when and by which rule. */
  tidied: z.object({ digests: z.number().int(), at: timestampSchema, by: z.string(), keep: z.string() }),
  /**
   * Key: {@link stateKey}. Set by every entry, and so as new as the head: when the last entry was made, and how many facts
   * there are of those kinds whose lack would let something in. `signedSince`: the first entry that was signed.
   */
  state: z.object({
    seq: z.number().int(),
    at: timestampSchema,
    signedSince: z.number().int().optional(),
    counts: z.object({ environment: z.number().int(), line: z.number().int(), withdrawn: z.number().int() }),
  }),
  /** Key: {@link baseKey}. The base of a served image that was said to have moved, as it was and as it is. */
  base: z.object({ was: digestSchema, is: digestSchema.nullable() }),
  /** Key: a receiver. The last entry that it was told of, or need not be told of. */
  announced: z.object({ seq: z.number().int(), hash: digestSchema.nullable() }),
  /**
   * Key: {@link compactedKey}. The entries whose texts were moved into files: how many, the last of them, the digest of all their
   * hashes ({@link hashesDigest}), and the files, the latest last.
   */
  compacted: z.object({
    total: z.number().int(),
    through: z.number().int(),
    hashes: digestSchema,
    files: z.array(
      z.object({
        file: z.string(),
        digest: digestSchema,
        entries: z.number().int(),
        at: timestampSchema,
        by: z.string(),
      }),
    ),
  }),
} as const;

/** The facts of these kinds are counted: without one, something would be let in that it keeps out. */
export const countedKinds = ['environment', 'line', 'withdrawn'] as const;
/** How many facts of the kinds that are counted there are. */
export type FactCounts = Fact<'state'>['counts'];

/** The kinds of fact. */
export type FactKind = keyof typeof factSchemas;
/** Every kind of fact. */
export const factKinds = z.object(factSchemas).keyof().options;

/** The value of a fact of one kind. */
export type Fact<K extends FactKind> = z.infer<(typeof factSchemas)[K]>;
const schemaOf: { [K in FactKind]: z.ZodType<Fact<K>> } = factSchemas;

/** What became of a manifest that tidying removes. */
export type ManifestRemoval = NonNullable<Fact<'removal'>>;
/** What tidying has removed from a repository. */
export type RepositoryTidied = Fact<'tidied'>;
export type LaneHead = z.infer<typeof laneHeadSchema>;
export type TagTarget = z.infer<typeof tagTargetSchema>;
/** Where a tag is, and of which component. */
export type TagPlace = z.infer<typeof tagPlaceSchema>;
/** What a step changed in an environment. */
export type Changes = z.infer<typeof changesSchema>;
export type ServedComponent = z.infer<typeof servedComponentSchema>;
export type StagedComponent = z.infer<typeof stagedComponentSchema>;
export type StagedIn = z.infer<typeof stagedInSchema>;
export type StagedPart = StagedComponent['parts'][number];
export type Release = Fact<'release'>;
export type Step = Fact<'step'>;
export type Withdrawal = NonNullable<Fact<'withdrawn'>>;

/** Names a fact. */
export interface FactKey {
  readonly kind: FactKind;
  readonly key: string;
}

/** A fact as an engine stores it: JSON under its key. */
export interface StoredFact {
  readonly key: FactKey;
  readonly text: string;
}

/** A fact, and the entry that set it. */
export interface SetFact extends StoredFact {
  readonly seq: number;
}

/**
 * Ties a fact to the entry that set it, and so to the chain of entries: who changes the fact alone,
 * or its key, or says that another entry set it, changes what its seal must be.
 */
export function sealOf({ key: { kind, key }, text }: StoredFact, setter: Digest): Digest {
  return sha256(JSON.stringify([setter, kind, key, text]));
}

/** The kind and the key of a fact, as one text. */
export function factName({ kind, key }: FactKey): string {
  return `${kind} ${key}`;
}

/** The facts under some keys, or all facts of a product: what was asked of a ledger, and what it says. */
export class Facts {
  private readonly stored = new Map<string, StoredFact>();
  /** What was read of them, by kind and key: reading one takes longer than most decisions about it. */
  private readonly read: { readonly [K in FactKind]: Map<string, Fact<K>> } = {
    environment: new Map(),
    step: new Map(),
    lane: new Map(),
    withdrawn: new Map(),
    tag: new Map(),
    base: new Map(),
    release: new Map(),
    rules: new Map(),
    'rules-in-force': new Map(),
    'rules-approved': new Map(),
    evidence: new Map(),
    version: new Map(),
    commit: new Map(),
    line: new Map(),
    staged: new Map(),
    'staged-in': new Map(),
    digest: new Map(),
    referrers: new Map(),
    removal: new Map(),
    tidied: new Map(),
    announced: new Map(),
    compacted: new Map(),
    state: new Map(),
  };
  private readonly known = new Set<string>();

  /** @param keys The facts that were asked for; all of them where none are named. */
  constructor(private readonly keys?: readonly FactKey[]) {
    keys?.forEach((key) => this.known.add(factName(key)));
  }

  /** Adds a fact that was stored as text. */
  load(key: FactKey, text: string): void {
    this.known.add(factName(key));
    this.read[key.kind].delete(key.key);
    this.stored.set(factName(key), { key, text });
  }

  /** Adds what was read of the same ledger as of the same moment. */
  add(others: Facts): void {
    others.known.forEach((name) => this.known.add(name));
    others.stored.forEach((fact, name) => this.stored.set(name, fact));
  }

  /** Whether a fact was asked for. */
  has(key: FactKey): boolean {
    return this.keys === undefined || this.known.has(factName(key));
  }

  /** Whether a fact is set. Throws where it was not asked for: a defect. */
  isSet(key: FactKey): boolean {
    return this.storedUnder(key) !== undefined;
  }

  /** The value of a fact; undefined where it is not set. Throws where it was not asked for: a defect. */
  get<K extends FactKind>(kind: K, key: string): Fact<K> | undefined {
    const found = this.storedUnder({ kind, key });
    if (found === undefined) {
      return undefined;
    }
    try {
      const value = this.read[kind].get(key) ?? schemaOf[kind].parse(JSON.parse(found.text));
      this.read[kind].set(key, value);
      return value;
    } catch (error) {
      throw new HodError('ledger-facts-corrupt', {
        what: 'a fact of the ledger cannot be read',
        object: factName({ kind, key }),
        why: error instanceof z.ZodError ? issuesToText(error) : messageOf(error),
        next: 'restore the ledger from its backup',
      });
    }
  }

  /** Sets the value of a fact. */
  set<K extends FactKind>(kind: K, key: string, value: Fact<K>): void {
    this.load({ kind, key }, JSON.stringify(value));
  }

  private storedUnder(key: FactKey): StoredFact | undefined {
    if (!this.has(key)) {
      throw new Error(`the fact ${factName(key)} is used, and was not asked for`);
    }
    return this.stored.get(factName(key));
  }

  /** Every fact that is set here. */
  all(): StoredFact[] {
    return [...this.stored.values()];
  }
}

/** The fact about entries that were moved into files. */
export const compactedKey: FactKey = { kind: 'compacted', key: '' };

/** The fact about the ledger itself. */
export const stateKey: FactKey = { kind: 'state', key: '' };

/** A tag as people write it, `registry/name:tag`: the key of its fact. */
export function tagKey(repository: RepositoryName, tag: Tag): string {
  return `${repository}:${tag}`;
}

/** The key of the fact that names the referrers of a manifest. */
export function referrersKey(repository: RepositoryName, subject: Digest): string {
  return manifestKey(repository, subject);
}

/** Names a manifest in a repository: `registry/name@digest`. */
export function manifestKey(repository: RepositoryName, digest: Digest): string {
  return `${repository}@${digest}`;
}

/** The fact about the removal of a manifest from a repository. */
export function removalKey(repository: RepositoryName, digest: Digest): FactKey & { readonly kind: 'removal' } {
  return { kind: 'removal', key: manifestKey(repository, digest) };
}

/** That a manifest is being removed from a repository, or was; undefined where it is there, or was never removed. */
export function removalOf(facts: Facts, repository: RepositoryName, digest: Digest): ManifestRemoval | undefined {
  const { kind, key } = removalKey(repository, digest);
  return facts.get(kind, key) ?? undefined;
}

/** So many digits are the least that a shortened digest may have. */
export const shortestDigest = 8;

/** The fact about the digests that begin as these hexadecimal digits do, or as those of a digest. */
export function digestFact(text: string): FactKey {
  return { kind: 'digest', key: digitsOf(text).slice(0, shortestDigest) };
}

/** The key of the fact about a step of an environment, counted from 1. */
export function stepKey(environment: string, step: number): string {
  return `${environment} ${step}`;
}

/** The key of the fact about a line of versions or a branch in an environment. */
export function laneKey(environment: string, lane: string): string {
  return `${environment} ${lane}`;
}

/** The key of the fact about rules that people accept for an environment. */
export function approvedKey(environment: string, rules: Digest): string {
  return `${environment} ${rules}`;
}

/** The key of the fact that content was withdrawn in an environment. */
export function withdrawnKey(environment: string, content: ContentId): string {
  return `${environment} ${content}`;
}

/** That content was withdrawn in an environment; undefined where it was not, or came back on purpose. */
export function withdrawalOf(facts: Facts, environment: string, content: ContentId): Withdrawal | undefined {
  return facts.get('withdrawn', withdrawnKey(environment, content)) ?? undefined;
}

/** So many earlier targets of a tag are kept: more than runs that are slow or killed can still write. */
const earlierKept = 16;

/**
 * What a moving tag pointed to before, once it points to a digest: what a run that was slow or killed may still write.
 *
 * @param last What it may point to beside that.
 */
export function earlierThan(
  digest: Digest,
  known: Fact<'tag'> | undefined,
  last: readonly (Digest | undefined)[] = [],
): { earlier?: Digest[] } {
  const all = [...last.filter((each) => each !== undefined), ...(known === undefined ? [] : everUnder(known))];
  const earlier = [...new Set(all)].filter((each) => each !== digest).slice(0, earlierKept);
  return earlier.length === 0 ? {} : { earlier };
}

/** Returns everything that a tag points to, or pointed to before, by decision of the ledger. */
export function everUnder({ digest, earlier = [] }: Fact<'tag'>): Digest[] {
  return [digest, ...earlier];
}

/** What is known of content about which nothing was found out. */
export const noEvidence: Fact<'evidence'> = { results: [], signOffs: [], publishers: [] };

/** Everybody who published what a release holds, under whatever version; who published one that was adopted is not known. */
export function publishersOf(
  { by, arrived }: Pick<Release, 'by' | 'arrived'>,
  evidence: Fact<'evidence'> | undefined,
): string[] {
  return [...new Set([...(evidence?.publishers ?? []), ...(wasAdopted({ arrived }) ? [] : [by])])];
}

/** Whether a release was served before the ledger began: in an environment, or in any where none is named. */
export function wasAdopted({ arrived }: Pick<Release, 'arrived'>, environment?: string): boolean {
  return arrived.some((stay) => stay.adopted === true && (environment ?? stay.environment) === stay.environment);
}

/** Names the base of an image that an environment serves. */
export function baseKey(base: {
  readonly environment: string;
  readonly component: string;
  readonly platform: string;
  readonly name: string;
}): string {
  return [base.environment, base.component, base.platform, base.name].join(' ');
}

/** Where a tag stands by the ledger; undefined where it stands nowhere, any more or yet. */
export function targetOf(known: Fact<'tag'> | undefined): TagTarget | undefined {
  if (known === undefined || known.gone === true) {
    return undefined;
  }
  const { digest, release, commit, version, platform } = known;
  return { digest, release, commit, version, platform };
}

/** Every component that the product had when a release was built. */
export function listedIn({
  lists,
  components,
}: Pick<Release, 'lists'> & { readonly components: readonly { readonly component: string }[] }): readonly string[] {
  return lists ?? components.map(({ component }) => component);
}
