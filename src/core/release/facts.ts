import * as z from 'zod';
import { digestSchema } from '../oci/digest';
import { entrySchema, type Entry, type LandedImage } from './entry';

/**
 * The state of a product: small facts under keys, each kept current by {@link foldEntry}. A reader
 * asks for the facts it needs, so reading costs the same however long the ledger is.
 */

const action = entrySchema.shape.action.options[0].shape;

const runningImageSchema = action.images.element.omit({ image: true }).extend({
  version: action.version,
  commit: action.commit,
  release: action.release,
  /** Since when the environment runs it. RFC 3339, UTC. */
  since: z.string(),
  by: z.string(),
  /** The tags that were pointed at it then. */
  tags: z.array(action.tags.element.shape.tag),
});

const factSchemas = {
  /** Key: an environment. What it runs, by image. */
  environment: z.record(z.string(), runningImageSchema),
  /** Key: `registry/name:tag`. What the tag points at by decision of the ledger. */
  tag: z.object({
    kind: z.enum(['fixed', 'moving']),
    digest: digestSchema,
    commit: action.commit,
    version: action.version,
    seq: z.number().int(),
  }),
  /** Key: the id of a release. */
  release: z.object({
    release: action.release,
    commit: action.commit,
    version: action.version,
    branch: action.branch,
    images: action.images,
    /** Environments that hold it, and since when. */
    arrived: z.record(z.string(), z.string()),
  }),
  /** Key: a version. The release that has it. */
  version: z.object({ release: action.release }),
  /** Key: a full commit id. The newest release of it; one with a version goes before one without. */
  commit: z.object({ release: action.release, version: action.version }),
} as const;

/** The kinds of fact. */
export const factKinds = ['environment', 'tag', 'release', 'version', 'commit'] as const;
export type FactKind = (typeof factKinds)[number];

/** The value of a fact of one kind. */
export type Fact<K extends FactKind> = z.infer<(typeof factSchemas)[K]>;
const schemaOf: { [K in FactKind]: z.ZodType<Fact<K>> } = factSchemas;

export type RunningImage = z.infer<typeof runningImageSchema>;
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
export function factsReadBy(entry: Entry): FactKey[] {
  const { action } = entry;
  return [
    { kind: 'environment', key: action.environment },
    { kind: 'release', key: action.release },
    { kind: 'commit', key: action.commit },
  ];
}

/**
 * The facts that an entry sets. `before` holds at least those named by {@link factsReadBy}. Pure:
 * folding the same entries gives the same facts, which is how a snapshot is checked.
 */
export function foldEntry(entry: Entry, before: Facts): Facts {
  const { action, seq, at, actor } = entry;
  const { release, commit, version, branch } = action;
  const after = new Facts();

  for (const { repository, tag, kind, digest } of action.tags) {
    after.set('tag', tagKey(repository, tag), { kind, digest, commit, version, seq });
  }
  if (action.current) {
    const running = { ...before.get('environment', action.environment) };
    for (const { image, ...landed } of action.images) {
      const tags = action.tags.filter((each) => each.image === image).map(({ tag }) => tag);
      running[image] = {
        ...landed,
        version,
        commit,
        release,
        since: sinceOf(running[image], landed, at),
        by: actor,
        tags,
      };
    }
    after.set('environment', action.environment, running);
  }
  const known = before.get('release', release);
  if (known !== undefined) {
    const arrived = { [action.environment]: at, ...known.arrived };
    after.set('release', release, { ...known, arrived });
  } else if (action.kind === 'published') {
    const { images } = action;
    after.set('release', release, { release, commit, version, branch, images, arrived: { [action.environment]: at } });
    if (version !== undefined) {
      after.set('version', version, { release });
    }
    if (version !== undefined || before.get('commit', commit)?.version === undefined) {
      after.set('commit', commit, { release, version });
    }
  }
  return after;
}

/** The same digest published again does not make an environment look freshly changed. */
function sinceOf(running: RunningImage | undefined, landed: Omit<LandedImage, 'image'>, at: string): string {
  return running?.digest === landed.digest && running.repository === landed.repository ? running.since : at;
}
