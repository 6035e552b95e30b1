import { HodError, type ErrorCode } from '../core/errors';
import type { ContentNode } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { factsOfRemovals } from '../core/ledger/entries/there-again';
import { Facts, removalOf, tagKey, type FactKey } from '../core/ledger/facts';
import type { TagDecision } from '../core/release/tag-decisions';
import { tagKinds } from '../core/tags/rules';
import type { Tag } from '../core/oci/tag';
import type { Ledger } from '../ledger/ledger';
import type { RepositoryTarget } from '../registry/ports';
import { settleAll } from '../system/promises';

/** A component whose tags are settled. */
export interface SettlingItem {
  readonly component: string;
  /** What is delivered, where something is. */
  readonly node?: Pick<ContentNode, 'manifest' | 'children'>;
  readonly target: RepositoryTarget;
}

/** What settling works with. */
export interface SettleContext<I> {
  readonly ledger: Pick<Ledger, 'read'>;
  /** Whether this run appended the entries that say where the tags lead. */
  readonly appended: boolean;
  /** Does work that writes a tag of an item; see {@link Carrier.mending}. */
  mending<T>(item: I, write: () => Promise<T>): Promise<T>;
}

/** How often a tag is written that leads elsewhere when it is read back: somebody else may be at it too. */
const attempts = 5;

/** A tag that stands elsewhere than the ledger says; `digest`: what it must lead to, undefined where it must go. */
interface PendingTag {
  readonly decision: TagDecision;
  readonly digest: Digest | undefined;
}

/** A tag that was written, or that there was nothing to write under. */
interface WrittenTag {
  /** Reads what it leads to now. */
  readonly readBack: () => Promise<void>;
}

const notWritten: WrittenTag = { readBack: () => Promise.resolve() };

/** What the tags of a delivery lead to, while they are written. */
class ServedTags<I extends SettlingItem> {
  /** The decisions about tags that are written. */
  private readonly ours: readonly TagDecision[];
  private readonly serving: Map<string, Digest | undefined>;
  /** Tags that the registry does not remove. */
  private readonly kept = new Set<string>();
  /** What the ledger said last about these tags. */
  private facts = new Facts();

  constructor(
    private readonly items: readonly I[],
    decisions: readonly TagDecision[],
    private readonly context: SettleContext<I>,
  ) {
    // A tag that is held although it points here was written late by a run of this build that was killed then.
    this.ours = decisions.filter(({ outcome, served, digest }) => outcome !== 'held' || served === digest);
    this.serving = new Map(this.ours.map((decision) => [keyOf(decision), decision.served]));
  }

  /** The facts about these tags. */
  get keys(): FactKey[] {
    return [...this.serving.keys()].map((key): FactKey => ({ kind: 'tag', key }));
  }

  servedUnder(decision: TagDecision): Digest | undefined {
    return this.serving.get(keyOf(decision));
  }

  /** The tags that stand elsewhere than the ledger says. */
  pending(facts: Facts): PendingTag[] {
    this.facts = facts;
    return this.ours
      .filter((decision) => this.hasDrifted(decision, facts))
      .map((decision) => {
        const target = facts.get('tag', keyOf(decision));
        return { decision, digest: target?.gone === true ? undefined : target?.digest };
      });
  }

  /** Reads back the tags that are not to be written. */
  async readOthers(facts: Facts): Promise<void> {
    const unwritten = this.ours.filter((decision) => !this.hasDrifted(decision, facts));
    await settleAll(
      unwritten.map(async (decision) => {
        const { manifests } = itemOf(this.items, decision).target;
        this.serving.set(keyOf(decision), await manifests.resolve(decision.tag, decision.digest));
      }),
    );
  }

  /**
   * Writes or removes tags: fixed tags first, so that a moving tag never leads to a version whose own tag is missing. Tags of
   * platforms are not written while those of an index are: a registry may read the image just then, and find half of it. They
   * are read back while the next are written.
   */
  async write(pending: readonly PendingTag[]): Promise<void> {
    const readings: Promise<void>[] = [];
    try {
      for (const kind of tagKinds) {
        for (const isOfImage of [true, false]) {
          const own = pending.filter(
            ({ decision }) => decision.kind === kind && (decision.platform !== undefined) === isOfImage,
          );
          const written = await settleAll(own.map((each) => this.writeOne(each)));
          for (const { readBack } of written) {
            const reading = readBack();
            // The failure is thrown at the end; until then nothing waits for it.
            reading.catch(() => undefined);
            readings.push(reading);
          }
        }
      }
    } finally {
      await Promise.allSettled(readings);
    }
    await settleAll(readings);
  }

  private async writeOne({ decision, digest }: PendingTag): Promise<WrittenTag> {
    if (digest !== undefined) {
      return this.pointTo(decision, digest);
    }
    if ((await removeTag(itemOf(this.items, decision).target, decision.tag)) === 'removed') {
      this.serving.set(keyOf(decision), undefined);
      return notWritten;
    }
    this.kept.add(keyOf(decision));
    const instead = this.insteadOf(decision);
    return instead === undefined ? notWritten : this.pointTo(decision, instead);
  }

  private async pointTo(decision: TagDecision, digest: Digest): Promise<WrittenTag> {
    const readBack = await writeTag(this.items, decision, digest, this.context);
    return {
      readBack: async () => {
        this.serving.set(keyOf(decision), await readBack());
      },
    };
  }

  /** Tags that still lead to what was withdrawn: the registry removes no tags, and nothing else may stand there. */
  get withdrawn(): string[] {
    return this.ours
      .filter((decision) => this.kept.has(keyOf(decision)) && this.insteadOf(decision) === undefined)
      .map(keyOf);
  }

  /**
   * What a tag leads to where it is to go, and is not removed. The ledger knows better than this run: another rollback may have
   * withdrawn what this one pointed the tag to.
   */
  insteadOf(decision: TagDecision): Digest | undefined {
    return this.facts.get('tag', keyOf(decision))?.instead ?? decision.instead;
  }

  private hasDrifted(decision: TagDecision, facts: Facts): boolean {
    const target = facts.get('tag', keyOf(decision));
    const now = this.servedUnder(decision);
    if (target === undefined) {
      return false;
    }
    if (target.gone !== true) {
      return now !== target.digest;
    }
    if (!this.kept.has(keyOf(decision))) {
      return leadsBack(decision, now, target.digest);
    }
    const instead = this.insteadOf(decision);
    return instead !== undefined && now !== instead;
  }
}

/**
 * Makes the registries serve what the ledger says, for the tags of a delivery. Each tag is read back
 * after it was written, and then the ledger is read again: where something newer was published
 * meanwhile, that is what the tag must end with, whoever wrote last.
 *
 * Throws `content-removed` where tidying has claimed what a tag leads to since this run began; `tag-not-kept` where a registry says that it wrote a tag, again and again, and serves another; `tag-not-removed`
 * where a tag of a withdrawn release can neither be removed nor point to anything else.
 */
export async function settle<I extends SettlingItem>(
  items: readonly I[],
  decisions: readonly TagDecision[],
  context: SettleContext<I>,
): Promise<TagDecision[]> {
  const tags = new ServedTags(items, decisions, context);
  for (let attempt = 0; ; attempt += 1) {
    const relied = decisions.filter(reliesOnContent);
    const { facts } = await context.ledger.read([...tags.keys, ...factsOfRemovals(relied)]);
    if (attempt === 0 && context.appended) {
      await tags.readOthers(facts);
    }
    await refuseTidied(relied, items, facts);
    const pending = tags.pending(facts);
    const [first] = pending;
    if (first === undefined) {
      if (tags.withdrawn.length > 0) {
        throw notRemoved(tags.withdrawn);
      }
      return decisions.map((decision) => asServed(decision, tags));
    }
    if (attempt === attempts) {
      const served = tags.servedUnder(first.decision) ?? 'nothing';
      const wanted = first.digest ?? 'no target';
      throw notKept(keyOf(first.decision), `it took ${wanted} ${attempts} times, and serves ${served} under it`);
    }
    await tags.write(pending);
  }
}

/**
 * Throws `content-removed` where tidying has claimed what a tag leads to, and the ledger already said so when this run came: there
 * was nothing to append, so nothing told tidying to leave it. A tag that this run has written is removed as far as that is possible.
 */
async function refuseTidied(
  decisions: readonly TagDecision[],
  items: readonly SettlingItem[],
  facts: Facts,
): Promise<void> {
  const tidied = decisions.filter(({ repository, digest }) => removalOf(facts, repository, digest) !== undefined);
  if (tidied.length > 0) {
    await settleAll(tidied.map((decision) => removeTag(itemOf(items, decision).target, decision.tag)));
    throw new HodError('content-removed', {
      what: 'tidying is removing content that this command needs',
      object: tidied.map(keyOf),
      why: '`hod tidy` has claimed the content of these tags since this command began',
      next: 'run the same command again when `hod tidy` has ended: it uploads the content again',
    });
  }
}

/** These errors tell the user what to do about the tags: they are thrown as they are. */
const saysWhatIsLeft: readonly ErrorCode[] = ['tag-not-kept', 'tag-not-removed'];

/**
 * Does what is left once the ledger says what an environment serves.
 *
 * @throws `tags-incomplete` where a registry fails: it tells the user that the decision is recorded.
 */
export async function completing<T>(environment: string, work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (!(error instanceof HodError) || error.fault !== 'unavailable' || saysWhatIsLeft.includes(error.code)) {
      throw error;
    }
    const { what, object, why, next } = error.problem;
    throw new HodError('tags-incomplete', {
      what: `recorded, but tags of ${environment} are incomplete`,
      ...(object === undefined ? {} : { object }),
      why: [what, ...[why ?? []].flat()],
      next: `run the same command again: it writes the missing tags${next === undefined ? '' : ` (${[next].flat().join('; ')})`}`,
    });
  }
}

/** Whether a tag leads, or is to lead, to whole content that is delivered. */
function reliesOnContent({ outcome, platform }: TagDecision): boolean {
  return platform === undefined && !['held', 'refused', 'removed'].includes(outcome);
}

function keyOf({ repository, tag }: TagDecision): string {
  return tagKey(repository, tag);
}

function asServed<I extends SettlingItem>(decision: TagDecision, tags: ServedTags<I>): TagDecision {
  const { outcome } = decision;
  const served = tags.servedUnder(decision);
  if (outcome === 'removed') {
    const instead = tags.insteadOf(decision);
    const wasThere = decision.served === instead;
    return served !== undefined && served === instead
      ? {
          ...decision,
          digest: served,
          outcome: wasThere ? 'unchanged' : 'moved',
          reason: `${decision.reason}; ${pointedElsewhere}`,
        }
      : decision;
  }
  return outcome === 'held' || served === decision.digest
    ? decision
    : {
        ...decision,
        outcome: 'held',
        reason: 'a newer release came meanwhile, or this one was rolled back or tidied',
        heldBy: 'order',
      };
}

/** Whether a tag that is gone leads to what it may not lead to any more. It may lead anywhere else. */
function leadsBack({ never = [] }: TagDecision, served: Digest | undefined, gone: Digest): boolean {
  return served !== undefined && (served === gone || never.includes(served));
}

/** What is said of a tag that a registry keeps. */
const pointedElsewhere = 'the registry removes no tags, so it points to a release that was not withdrawn';

/** The error for tags that still lead to what was withdrawn. */
function notRemoved(tags: readonly string[]): HodError {
  return new HodError('tag-not-removed', {
    what: 'tags still point to a withdrawn release',
    object: tags,
    why: 'the registry removes no tags, and the environment serves nothing else that they could point to',
    next: 'let the registry remove tags and run the command again; or publish and promote a new release, which takes these tags',
  });
}

/** What became of a tag that was to be removed; `refused`: the registry removes none, or not for us. */
type Removal = 'removed' | 'refused' | 'failed';

/** Removes a tag. What was to be done is done: a tag that is left over is no failure. */
export async function removeTag({ tags }: Pick<SettlingItem['target'], 'tags'>, tag: Tag): Promise<Removal> {
  try {
    return (await tags.remove(tag)) ? 'removed' : 'refused';
  } catch (error) {
    if (error instanceof HodError) {
      return 'failed';
    }
    throw error;
  }
}

function itemOf<I extends SettlingItem>(items: readonly I[], { component, tag }: TagDecision): I {
  const item = items.find((each) => each.component === component);
  if (item === undefined) {
    throw new Error(`the tag ${tag} is for ${component}, which is not delivered`);
  }
  return item;
}

/** Writes a tag, and answers how to read what it leads to then. */
async function writeTag<I extends SettlingItem>(
  items: readonly I[],
  decision: TagDecision,
  digest: Digest,
  context: SettleContext<I>,
): Promise<() => Promise<Digest | undefined>> {
  const { tag } = decision;
  const item = itemOf(items, decision);
  const { node, target } = item;
  const delivered = node && [node, ...node.children].find((each) => each.manifest.digest === digest)?.manifest;
  const manifest = delivered ?? (await target.manifests.get(digest));
  if (manifest === undefined) {
    throw new HodError('content-gone', {
      what: 'a tag cannot be brought up to date',
      object: tagKey(target.label, tag),
      why: `the ledger says that it points to ${digest}, which is not in the registry`,
      next: 'publish that build again',
    });
  }
  const write = (): Promise<void> => target.manifests.put(tag, manifest);
  await (manifest === delivered ? context.mending(item, write) : write());
  return () => target.manifests.readBack(tag, manifest);
}

/** The error for a registry that took a tag and serves another, or none. */
export function notKept(object: string, why: string): HodError {
  return new HodError('tag-not-kept', {
    what: 'the registry did not keep a tag',
    object,
    why,
    next: 'check the log of the registry, and who else moves this tag; then run the command again',
  });
}
