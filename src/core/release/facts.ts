import * as z from 'zod';
import { digestSchema } from '../oci/digest';
import { compareVersions, isPrerelease, linesOf, type Version } from '../tags/version';
import { contentId, entrySchema, type Entry, type LandedImage, type Landing } from './entry';

/**
 * The state of a product: small facts under keys, each kept current by {@link foldEntry}. A reader
 * asks for the facts it needs, so reading costs the same however long the ledger is.
 */

const landing = entrySchema.shape.action.options[0].shape;
const landedImage = landing.images.element;

const runningImageSchema = landedImage.omit({ image: true }).extend({
  version: landing.version,
  commit: landing.commit,
  release: landing.release,
  /** Since when the environment runs it. RFC 3339, UTC. */
  since: z.string(),
  by: z.string(),
  /** The tags that were pointed at it then. */
  tags: z.array(landing.tags.element.shape.tag),
});

const stagedImageSchema = z.object({
  /** Each for other platforms, or one for all. */
  parts: z.array(landedImage.omit({ image: true })),
  /** Its build failed after that. */
  failed: z.object({ reason: z.string(), at: z.string(), by: z.string() }).optional(),
});

const factSchemas = {
  /** Key: an environment. What it runs, by image. */
  environment: z.record(z.string(), runningImageSchema),
  /** Key: `registry/name:tag`. What the tag points at by decision of the ledger. */
  tag: z.object({
    kind: z.enum(['fixed', 'moving']),
    digest: digestSchema,
    commit: landing.commit,
    version: landing.version,
    seq: z.number().int(),
  }),
  /** Key: the id of a release. */
  release: z.object({
    release: landing.release,
    commit: landing.commit,
    version: landing.version,
    branch: landing.branch,
    build: landing.build,
    images: landing.images,
    /** Environments that hold it, and since when. */
    arrived: z.record(z.string(), z.string()),
  }),
  /** Key: a version. The release that has it, and the name of what that holds. */
  version: z.object({ release: landing.release, content: digestSchema }),
  /** Key: a full commit id. The newest release of it; one with a version goes before one without. */
  commit: z.object({ release: landing.release, version: landing.version, content: digestSchema }),
  /** Key: a line of versions (``, `2`, `2.4`). The highest release on it; pre-releases do not count. */
  line: z.object({ version: landing.version.unwrap(), commit: landing.commit, content: digestSchema }),
  /** Key: a full commit id. What was staged of it, by image. */
  staged: z.record(z.string(), stagedImageSchema),
} as const;

/** The kinds of fact. */
export type FactKind = keyof typeof factSchemas;
/** Every kind of fact. */
export const factKinds = [
  'environment',
  'tag',
  'release',
  'version',
  'commit',
  'line',
  'staged',
] as const satisfies readonly FactKind[];

/** The value of a fact of one kind. */
export type Fact<K extends FactKind> = z.infer<(typeof factSchemas)[K]>;
const schemaOf: { [K in FactKind]: z.ZodType<Fact<K>> } = factSchemas;

export type RunningImage = z.infer<typeof runningImageSchema>;
export type StagedImage = z.infer<typeof stagedImageSchema>;
export type StagedPart = StagedImage['parts'][number];
export type Release = Fact<'release'>;

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

/** A set of facts, as JSON texts under their keys: what a ledger engine stores and a reader asks for. */
export class Facts {
  private readonly texts = new Map<string, StoredFact>();

  /** Adds a fact that was stored as text. */
  load(key: FactKey, text: string): void {
    this.texts.set(`${key.kind} ${key.key}`, { key, text });
  }

  /** The value of a fact, if it is known. */
  get<K extends FactKind>(kind: K, key: string): Fact<K> | undefined {
    const found = this.texts.get(`${kind} ${key}`);
    return found === undefined ? undefined : schemaOf[kind].parse(JSON.parse(found.text));
  }

  /** Sets the value of a fact. */
  set<K extends FactKind>(kind: K, key: string, value: Fact<K>): void {
    this.load({ kind, key }, JSON.stringify(value));
  }

  /** Every fact held here. */
  all(): StoredFact[] {
    return [...this.texts.values()];
  }
}

/** The key of a tag's fact. */
export function tagKey(repository: string, tag: string): string {
  return `${repository}:${tag}`;
}

/** The facts that {@link foldEntry} reads for an entry. */
export function factsReadBy({ action }: Entry): FactKey[] {
  if (action.kind === 'staged' || action.kind === 'failed') {
    return [{ kind: 'staged', key: action.commit }];
  }
  const { version } = action;
  return [
    { kind: 'environment', key: action.environment },
    { kind: 'release', key: action.release },
    { kind: 'commit', key: action.commit },
    ...(version === undefined ? [] : [{ kind: 'version', key: version } as const]),
    ...(version === undefined ? [] : linesOf(version)).map((key) => ({ kind: 'line', key }) as const),
    ...action.tags
      .filter(({ kind }) => kind === 'fixed')
      .map(({ repository, tag }) => ({ kind: 'tag', key: tagKey(repository, tag) }) as const),
  ];
}

/**
 * The facts that an entry sets. `before` holds at least those named by {@link factsReadBy}. Pure:
 * folding the same entries gives the same facts, which is how a snapshot is checked.
 */
export function foldEntry(entry: Entry, before: Facts): Facts {
  const after = new Facts();
  const { action } = entry;
  switch (action.kind) {
    case 'staged': {
      const staged = { ...before.get('staged', action.commit) };
      for (const { image, ...part } of action.parts) {
        staged[image] = { parts: [...(staged[image]?.parts ?? []).filter((each) => !replaces(part, each)), part] };
      }
      after.set('staged', action.commit, staged);
      break;
    }
    case 'failed': {
      const staged = { ...before.get('staged', action.commit) };
      const failed = { reason: action.reason, at: entry.at, by: entry.actor };
      for (const image of action.images) {
        staged[image] = { parts: staged[image]?.parts ?? [], failed };
      }
      after.set('staged', action.commit, staged);
      break;
    }
    default:
      foldTags(action, entry.seq, before, after);
      foldEnvironment(action, entry, before, after);
      foldRelease(action, entry.at, before, after);
  }
  return after;
}

/** Adds an entry to the facts before it. Answers those that it set. */
export function foldInto(facts: Facts, entry: Entry): StoredFact[] {
  const set = foldEntry(entry, facts).all();
  set.forEach(({ key, text }) => facts.load(key, text));
  return set;
}

/** Whether a part that is staged takes the place of another: it is for a platform of it, or both are for all. */
function replaces(part: StagedPart, other: StagedPart): boolean {
  const shared = part.platforms.some((platform) => other.platforms.includes(platform));
  return shared || (part.platforms.length === 0 && other.platforms.length === 0);
}

function foldTags({ tags, commit, version }: Landing, seq: number, before: Facts, after: Facts): void {
  for (const { repository, tag, kind, digest } of tags) {
    const key = tagKey(repository, tag);
    // A fixed tag keeps the build that took it first.
    if (kind === 'moving' || before.get('tag', key)?.digest !== digest) {
      after.set('tag', key, { kind, digest, commit, version, seq });
    }
  }
}

function foldEnvironment(action: Landing, { at, actor }: Entry, before: Facts, after: Facts): void {
  if (!action.current) {
    return;
  }
  const { version, commit, release } = action;
  const running = { ...before.get('environment', action.environment) };
  for (const { image, ...landed } of action.images) {
    const tags = action.tags.filter((each) => each.image === image).map(({ tag }) => tag);
    const since = sinceOf(running[image], landed, at);
    running[image] = { ...landed, version, commit, release, since, by: actor, tags };
  }
  after.set('environment', action.environment, running);
}

function foldRelease(action: Landing, at: string, before: Facts, after: Facts): void {
  const { release, commit, version, branch, build, images } = action;
  const known = before.get('release', release);
  if (known !== undefined) {
    after.set('release', release, { ...known, arrived: { [action.environment]: at, ...known.arrived } });
    return;
  }
  if (action.kind !== 'published') {
    return;
  }
  const content = contentId(images);
  const arrived = { [action.environment]: at };
  after.set('release', release, { release, commit, version, branch, build, images, arrived });
  if (version !== undefined || before.get('commit', commit)?.version === undefined) {
    after.set('commit', commit, { release, version, content });
  }
  if (version !== undefined) {
    foldVersion(version, { release, commit, content }, before, after);
  }
}

function foldVersion(
  version: Version,
  { release, commit, content }: Pick<Fact<'version'>, 'release' | 'content'> & { commit: string },
  before: Facts,
  after: Facts,
): void {
  if (before.get('version', version) === undefined) {
    after.set('version', version, { release, content });
  }
  if (isPrerelease(version)) {
    return;
  }
  for (const line of linesOf(version)) {
    const highest = before.get('line', line)?.version;
    if (highest === undefined || compareVersions(version, highest) > 0) {
      after.set('line', line, { version, commit, content });
    }
  }
}

/** The same digest published again does not make an environment look freshly changed. */
function sinceOf(running: RunningImage | undefined, landed: Omit<LandedImage, 'image'>, at: string): string {
  return running?.digest === landed.digest && running.repository === landed.repository ? running.since : at;
}
