import type { Digest } from '../oci/digest';
import {
  compareOrder,
  decideMoving,
  type Ancestry,
  type CurrentTarget,
  type MovingDecision,
  type Position,
} from '../tags/ordering';
import type { WantedTag } from '../tags/rules';
import type { Tag } from '../tags/tag';
import type { SetTag } from './entry';
import { tagKey, type Fact, type Facts } from './facts';

/** A tag that a rule asks for in one repository, and what stands there now. */
export interface TagRequest {
  readonly image: string;
  /** `registry/name`. */
  readonly repository: string;
  /** What the tag is to point at. */
  readonly digest: Digest;
  readonly wanted: WantedTag;
  /** What the registry serves under the tag; undefined where there is no such tag. */
  readonly found: Found | undefined;
}

/** What a registry serves under a tag. */
export interface Found {
  readonly digest: Digest;
  /** What its annotations and its other tags tell of it; asked for only where the ledger does not know it. */
  readonly evidence?: Position | undefined;
}

/** What is to become of one tag. `held` and `refused` leave it alone. */
export interface TagDecision {
  readonly image: string;
  readonly repository: string;
  readonly tag: Tag;
  readonly kind: 'fixed' | 'moving';
  readonly digest: Digest;
  readonly outcome: 'created' | 'unchanged' | 'moved' | 'held' | 'refused';
  readonly reason: string;
  /** It was held by the order of builds, not because builds of this kind never move it. */
  readonly late: boolean;
  /** What the tag points at before; undefined where there is no such tag. */
  readonly previous: Digest | undefined;
}

/** Decides about every requested tag, from the ledger's facts and what the registries serve. */
export function decideTags(
  requests: readonly TagRequest[],
  position: Position,
  facts: Facts,
  ancestry: Ancestry,
): TagDecision[] {
  return requests.map((request) => {
    const { image, repository, digest, wanted, found } = request;
    const recorded = facts.get('tag', tagKey(repository, wanted.tag));
    const base = { image, repository, tag: wanted.tag, kind: wanted.rule.kind, digest, late: false };
    const previous = found?.digest;
    if (wanted.rule.kind === 'fixed') {
      return { ...base, previous, ...decideFixed(digest, previous, recorded?.digest) };
    }
    const { follows } = wanted.rule;
    const candidate = { ...position, digest };
    const served = found && { digest: found.digest, position: found.evidence };
    const decision = decideMoving(follows, candidate, recorded === undefined ? served : asTarget(recorded), ancestry);
    if (decision.outcome === 'held') {
      return { ...base, previous, outcome: 'held', reason: decision.reason, late: decision.by === 'order' };
    }
    // Somebody without a part in this ledger may have moved it on.
    const there = served?.position && decideMoving(follows, candidate, served, ancestry);
    if (recorded !== undefined && there?.outcome === 'held') {
      return {
        ...base,
        previous,
        outcome: 'held',
        reason: `${there.reason} (in the registry; the ledger has not)`,
        late: true,
      };
    }
    return { ...base, previous, ...asSeenInRegistry(decision, digest, previous) };
  });
}

/** The tags whose target the ledger does not know, so that what it says of itself is needed. */
export function evidenceWanted(requests: readonly TagRequest[], facts: Facts): TagRequest[] {
  return requests.filter(({ repository, wanted, digest, found }) => {
    const recorded = facts.get('tag', tagKey(repository, wanted.tag))?.digest;
    return wanted.rule.kind === 'moving' && found !== undefined && ![digest, recorded].includes(found.digest);
  });
}

function asTarget({ digest, commit, version }: Fact<'tag'>): CurrentTarget {
  return { digest, position: { commit, version } };
}

/** The ledger may know a tag that never arrived (a run was killed) or was moved by hand: it is written again. */
function asSeenInRegistry(
  { outcome, reason }: Exclude<MovingDecision, { outcome: 'held' }>,
  digest: Digest,
  found: Digest | undefined,
): Pick<TagDecision, 'outcome' | 'reason'> {
  if (found === undefined) {
    return outcome === 'created' ? { outcome, reason } : { outcome: 'created', reason: 'it was not there' };
  }
  if (found === digest) {
    return { outcome: 'unchanged', reason: 'it already points here' };
  }
  return outcome === 'moved' ? { outcome, reason } : { outcome: 'moved', reason: 'something else had moved it' };
}

/** Decides about a fixed tag, from what the registry serves and what the ledger recorded. */
export function decideFixed(
  digest: Digest,
  found: Digest | undefined,
  recorded: Digest | undefined,
): Pick<TagDecision, 'outcome' | 'reason'> {
  const holder = [found, recorded].find((each) => each !== undefined && each !== digest);
  if (holder !== undefined) {
    return { outcome: 'refused', reason: `points at ${holder}` };
  }
  return found === digest
    ? { outcome: 'unchanged', reason: 'it already points here' }
    : { outcome: 'created', reason: recorded === undefined ? 'the tag is new' : 'it was not there' };
}

/** The tags of a plan that point, or are to point, at what is being released. */
export function tagsToSet(decisions: readonly TagDecision[]): SetTag[] {
  return decisions
    .filter(({ outcome }) => outcome !== 'held' && outcome !== 'refused')
    .map(({ image, repository, tag, kind, digest }) => ({ image, repository, tag, kind, digest }));
}

/**
 * Whether an environment is to run a build from now on: not where it runs something newer, by the
 * ledger or, where that knows nothing, by a tag that was held for it.
 */
export function becomesCurrent(
  environment: string,
  decisions: readonly TagDecision[],
  images: readonly string[],
  position: Position,
  facts: Facts,
  ancestry: Ancestry,
): boolean {
  const running = facts.get('environment', environment) ?? {};
  return images.every((image) => {
    const now = running[image];
    if (now === undefined) {
      return !decisions.some((decision) => decision.image === image && decision.late);
    }
    const order = compareOrder(position, { commit: now.commit, version: now.version }, ancestry);
    return order === 'newer' || order === 'same';
  });
}

/** Whether the facts already say everything that an entry with these tags would add. */
export function isRecorded(tags: readonly SetTag[], facts: Facts): boolean {
  return tags.every(({ repository, tag, digest }) => facts.get('tag', tagKey(repository, tag))?.digest === digest);
}
