import type { Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';
import {
  compareOrder,
  decideMoving,
  type Ancestry,
  type CurrentTarget,
  type HeldBy,
  type MovingDecision,
  type Position,
} from '../tags/ordering';
import type { TagKind, WantedTag } from '../tags/rules';
import type { Tag } from '../tags/tag';
import { tagKey, type Fact, type Facts } from './facts';
import type { SetTag } from './release';

/** A tag that a rule asks for in one repository, and what stands there now. */
export interface TagRequest {
  readonly image: string;
  readonly repository: RepositoryName;
  /** What the tag is to point to. */
  readonly digest: Digest;
  readonly wanted: WantedTag;
  /** What the registry serves under the tag; undefined where there is no such tag. */
  readonly served: Digest | undefined;
  /** What the annotations and other tags of what is served tell of it; asked for only where the ledger does not know it. */
  readonly evidence?: Position | undefined;
}

/** What can become of a tag. `held` and `refused` leave it alone. */
export const tagOutcomes = ['created', 'unchanged', 'moved', 'held', 'refused'] as const;
export type TagOutcome = (typeof tagOutcomes)[number];

/** What is to become of one tag. */
export interface TagDecision {
  readonly image: string;
  readonly repository: RepositoryName;
  readonly tag: Tag;
  readonly kind: TagKind;
  readonly digest: Digest;
  readonly outcome: TagOutcome;
  readonly reason: string;
  /** Why it is held; undefined where it is not. */
  readonly heldBy?: HeldBy | undefined;
  /** What the registry serves under the tag before; undefined where there is no such tag. */
  readonly served: Digest | undefined;
}

/** Decides about every requested tag, from the ledger's facts and what the registries serve. */
export function decideTags(
  requests: readonly TagRequest[],
  position: Position,
  facts: Facts,
  ancestry: Ancestry,
): TagDecision[] {
  return requests.map((request) => {
    const { image, repository, digest, wanted, served } = request;
    const recorded = facts.get('tag', tagKey(repository, wanted.tag));
    const base = { image, repository, tag: wanted.tag, kind: wanted.rule.kind, digest, served };
    return wanted.rule.kind === 'fixed'
      ? { ...base, ...decideFixed(digest, served, recorded?.digest) }
      : { ...base, ...decideMovingTag(request, wanted.rule.follows, { position, recorded, ancestry }) };
  });
}

type Outcome = Pick<TagDecision, 'outcome' | 'reason' | 'heldBy'>;

function decideMovingTag(
  { digest, served, evidence }: TagRequest,
  follows: Parameters<typeof decideMoving>[0],
  { position, recorded, ancestry }: { position: Position; recorded: Fact<'tag'> | undefined; ancestry: Ancestry },
): Outcome {
  const candidate = { ...position, digest };
  const there = served && { digest: served, position: evidence };
  const decision = decideMoving(follows, candidate, recorded === undefined ? there : asTarget(recorded), ancestry);
  if (decision.outcome === 'held') {
    return { outcome: 'held', reason: decision.reason, heldBy: decision.by };
  }
  // Somebody without a part in this ledger may have moved it on.
  const elsewhere = recorded && there?.position && decideMoving(follows, candidate, there, ancestry);
  if (elsewhere?.outcome === 'held') {
    const reason = `${elsewhere.reason} (in the registry; the ledger has not)`;
    return { outcome: 'held', reason, heldBy: 'order' };
  }
  return asServed(decision, digest, served);
}

/** The tags whose target the ledger does not know, so that what it says of itself is needed. */
export function evidenceWanted(requests: readonly TagRequest[], facts: Facts): TagRequest[] {
  return requests.filter(({ repository, wanted, digest, served }) => {
    const recorded = facts.get('tag', tagKey(repository, wanted.tag))?.digest;
    return wanted.rule.kind === 'moving' && served !== undefined && ![digest, recorded].includes(served);
  });
}

function asTarget({ digest, commit, version }: Fact<'tag'>): CurrentTarget {
  return { digest, position: { commit, version } };
}

/** The ledger may know a tag that never arrived (a run was killed) or was moved by hand: it is written again. */
function asServed(
  { outcome, reason }: Exclude<MovingDecision, { outcome: 'held' }>,
  digest: Digest,
  served: Digest | undefined,
): Outcome {
  if (served === undefined) {
    return outcome === 'created' ? { outcome, reason } : { outcome: 'created', reason: 'it was not there' };
  }
  if (served === digest) {
    return { outcome: 'unchanged', reason: 'it already points here' };
  }
  return outcome === 'moved' ? { outcome, reason } : { outcome: 'moved', reason: 'something else had moved it' };
}

/** Decides about a fixed tag, from what the registry serves and what the ledger recorded. */
export function decideFixed(digest: Digest, served: Digest | undefined, recorded: Digest | undefined): Outcome {
  const other = [served, recorded].find((each) => each !== undefined && each !== digest);
  if (other !== undefined) {
    return { outcome: 'refused', reason: `points to ${other}` };
  }
  return served === digest
    ? { outcome: 'unchanged', reason: 'it already points here' }
    : { outcome: 'created', reason: recorded === undefined ? 'the tag is new' : 'it was not there' };
}

/** The tags among decisions that point, or are to point, at what is being released. */
export function tagsToSet(decisions: readonly TagDecision[]): SetTag[] {
  return decisions
    .filter(({ outcome }) => outcome !== 'held' && outcome !== 'refused')
    .map(({ image, repository, tag, kind, digest }) => ({ image, repository, tag, kind, digest }));
}

/**
 * Whether an environment is to serve a release from now on: not where it serves something newer, by
 * the ledger or, where that knows nothing, by a tag that was held for it.
 */
export function takesOver(
  environment: string,
  decisions: readonly TagDecision[],
  images: readonly string[],
  position: Position,
  facts: Facts,
  ancestry: Ancestry,
): boolean {
  const served = facts.get('environment', environment) ?? [];
  return images.every((image) => {
    const now = served.find((each) => each.image === image);
    if (now === undefined) {
      return !decisions.some((decision) => decision.image === image && decision.heldBy === 'order');
    }
    const order = compareOrder(position, { commit: now.commit, version: now.version }, ancestry);
    return order === 'newer' || order === 'same';
  });
}

/** Whether the facts already say everything that an entry with these tags would add. */
export function isRecorded(tags: readonly SetTag[], facts: Facts): boolean {
  return tags.every(({ repository, tag, digest }) => facts.get('tag', tagKey(repository, tag))?.digest === digest);
}
