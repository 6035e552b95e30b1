import { shortDigest, type Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';
import {
  decideMoving,
  type Ancestry,
  type CurrentTarget,
  type HeldBy,
  type MovingDecision,
  type Position,
} from '../tags/ordering';
import type { TagKind, WantedTag } from '../tags/rules';
import type { ComponentArrival } from './component-arrival';
import { everUnder, tagKey, targetOf, type Fact, type Facts, type TagPlace } from '../ledger/facts';
import type { SetTag } from '../ledger/release';

/** A tag that a rule asks for in one repository, and what stands there now. */
export interface TagRequest {
  readonly component: string;
  readonly repository: RepositoryName;
  /** What the tag is to point to. */
  readonly digest: Digest;
  readonly wanted: WantedTag;
  /** What the registry serves under the tag; undefined where there is no such tag. */
  readonly served: Digest | undefined;
  /** What the annotations and other tags of what is served tell of it; asked for only where the ledger does not know it. */
  readonly provenance?: Position | undefined;
}

/**
 * What can become of a tag. `restored`: it stood elsewhere than the ledger says, and is put right.
 * `held` and `refused` leave it alone.
 */
export const tagOutcomes = ['created', 'unchanged', 'moved', 'restored', 'removed', 'held', 'refused'] as const;
export type TagOutcome = (typeof tagOutcomes)[number];

/** Whether a tag is as it was: nothing was, or is to be, written. */
export function staysAsItIs(outcome: TagOutcome): boolean {
  return outcome === 'unchanged' || outcome === 'held';
}

/** What is to become of one tag. */
export interface TagDecision extends TagPlace {
  readonly kind: TagKind;
  readonly digest: Digest;
  readonly outcome: TagOutcome;
  readonly reason: string;
  /** The platform of the image that it leads to; undefined where it leads to the whole component. */
  readonly platform?: string | undefined;
  /** Why it does not lead to what is released; undefined where it does. */
  readonly heldBy?: HeldBy | undefined;
  /** What the registry serves under the tag before; undefined where there is no such tag. */
  readonly served: Digest | undefined;
  /** What the ledger says that it points to, where the registry serves something else or nothing. */
  readonly recorded?: Digest | undefined;
  /** It stands where it stood before another release was decided on: that run is about to write it, or was killed. That is no drift. */
  readonly unwritten?: true | undefined;
  /** Of a tag that is removed: everything that it may not lead to. */
  readonly never?: readonly Digest[];
  /**
   * Of a tag that is removed: what it is to lead to where the registry removes no tags; undefined where nothing is there that
   * it could.
   */
  readonly instead?: Digest | undefined;
}

/** What holds moving tags, beside what they point to. */
export interface TagPolicy {
  /** Why no moving tag of a release may follow it: it was withdrawn. */
  readonly withdrawn?: string | undefined;
  /** Why only the tags of its branch may follow it: its branch is not followed. */
  readonly notFollowed?: string | undefined;
  /** Whether the environment serves nothing of a component: then the tag that shows what it serves is free. */
  readonly isFree: (component: string) => boolean;
}

/** What is known when tags are decided: where the release stands, the ledger, and the order of commits. */
interface TagKnowledge {
  readonly position: Position;
  readonly facts: Facts;
  readonly ancestry: Ancestry;
}

/** Decides about every requested tag, from the ledger's facts and what the registries serve. */
export function decideTags(
  requests: readonly TagRequest[],
  { position, facts, ancestry }: TagKnowledge,
  policy: TagPolicy,
): TagDecision[] {
  return requests.map((request) => {
    const { component, repository, digest, wanted } = request;
    const { recorded, served } = standingOf(request, facts);
    const isTidied = facts.get('tag', tagKey(repository, wanted.tag))?.tidied === true;
    const drifted =
      recorded !== undefined && recorded.digest !== served && !(isTidied && served === undefined)
        ? { recorded: recorded.digest }
        : {};
    const isOthers = recorded !== undefined && recorded.digest !== digest;
    const unwritten = isOthers && isUnwritten(recorded, served) ? true : undefined;
    const { tag, rule, image } = wanted;
    const base = {
      component,
      repository,
      tag,
      kind: rule.kind,
      digest,
      platform: image?.platform,
      unwritten,
      ...drifted,
    } as const;
    if (rule.kind === 'fixed') {
      const fixed = decideFixed(digest, served, recorded?.digest);
      const again = fixed.outcome === 'restored' && isTidied && served === undefined;
      return { ...base, served, ...(again ? { outcome: 'created', reason: 'tidying had removed it' } : fixed) };
    }
    const { follows } = rule;
    const never = policy.withdrawn ?? (follows === 'branch' ? undefined : policy.notFollowed);
    const asked = { ...request, served };
    const outcome: Outcome =
      never !== undefined
        ? { outcome: 'held', reason: never, heldBy: 'kind' }
        : follows === 'environment' && recorded !== undefined && policy.isFree(component)
          ? asServed({ reason: 'no release was served before' }, digest, served, recorded)
          : decideMovingTag(asked, follows, { position, recorded, ancestry });
    // What is gone by the ledger may be removed at any moment: it is written, also where it still stands there.
    const decided = { ...base, served: outcome.outcome === 'held' ? request.served : served, ...outcome };
    return outcome.outcome === 'held'
      ? { ...decided, ...putRight(request, follows, outcome.reason, { position, facts, ancestry }) }
      : decided;
  });
}

/**
 * A tag that is held is put right where a run of Hod left it: where it is missing, or stands at something that the ledger
 * had there before, or at something that is known to be older. A run that was slow writes its tags late, and where it was
 * killed then, it is this run again that must find them.
 */
function putRight(
  { repository, wanted, digest, served, provenance }: TagRequest,
  follows: Parameters<typeof decideMoving>[0],
  reason: string,
  { position, facts, ancestry }: TagKnowledge,
): Partial<TagDecision> {
  const recorded = facts.get('tag', tagKey(repository, wanted.tag));
  if (recorded === undefined) {
    return {};
  }
  if (recorded.gone === true) {
    const never = everUnder(recorded);
    return served !== undefined && never.includes(served)
      ? { outcome: 'removed', digest: recorded.digest, served, never, reason: `rolled back; ${reason}` }
      : {};
  }
  if (served === recorded.digest) {
    return {};
  }
  const there = served && provenance && { digest: served, position: provenance };
  const isOlder =
    served === undefined ||
    served === digest ||
    everUnder(recorded).includes(served) ||
    (there !== undefined && decideMoving(follows, { ...position, digest }, there, ancestry).outcome !== 'held');
  const why = isUnwritten(recorded, served)
    ? 'another run decided this, and has not written the tag yet'
    : driftReason(served, recorded.digest);
  return isOlder ? { outcome: 'restored', digest: recorded.digest, reason: `${why}; ${reason}` } : {};
}

/** What stands under a tag. What was withdrawn and could not be removed does not count. */
function standingOf({ repository, wanted, served }: TagRequest, facts: Facts) {
  const recorded = facts.get('tag', tagKey(repository, wanted.tag));
  return recorded?.gone === true
    ? { recorded: undefined, served: isPutThere(served, recorded) ? undefined : served }
    : { recorded, served };
}

/** Whether a tag that is gone by the ledger stands at something that the ledger had there, or let it be pointed to. */
function isPutThere(served: Digest | undefined, recorded: Fact<'tag'>): boolean {
  return served !== undefined && [...everUnder(recorded), recorded.instead].includes(served);
}

/** A tag that shows what an environment serves is held where the release does not take over. */
export function heldBeside(
  decisions: readonly TagDecision[],
  requests: readonly TagRequest[],
  arrivals: readonly ComponentArrival[],
): TagDecision[] {
  return decisions.map((decision, at) => {
    const rule = requests[at]?.wanted.rule;
    const arrival = arrivals.find(({ component }) => component === decision.component);
    const follows = rule?.kind === 'moving' && rule.follows === 'environment';
    return !follows || arrival === undefined || arrival.way === 'takes-over' || decision.heldBy !== undefined
      ? decision
      : { ...decision, outcome: 'held', heldBy: 'order', reason: arrival.reason };
  });
}

type Outcome = Pick<TagDecision, 'outcome' | 'reason' | 'heldBy'>;

function decideMovingTag(
  { digest, served, provenance }: TagRequest,
  follows: Parameters<typeof decideMoving>[0],
  { position, recorded, ancestry }: { position: Position; recorded: Fact<'tag'> | undefined; ancestry: Ancestry },
): Outcome {
  const candidate = { ...position, digest };
  const there = served && { digest: served, position: provenance };
  const decision = decideMoving(follows, candidate, recorded === undefined ? there : asTarget(recorded), ancestry);
  if (decision.outcome === 'held') {
    return { outcome: 'held', reason: decision.reason, heldBy: decision.by };
  }
  // Somebody without a part in this ledger may have moved it on. What the ledger had there before, a run wrote late.
  const isForeign = recorded !== undefined && there !== undefined && !everUnder(recorded).includes(there.digest);
  const elsewhere =
    isForeign && there.position !== undefined ? decideMoving(follows, candidate, there, ancestry) : undefined;
  if (elsewhere?.outcome === 'held') {
    const reason = `${elsewhere.reason} (in the registry; the ledger has not)`;
    return { outcome: 'held', reason, heldBy: 'order' };
  }
  return asServed(decision, digest, served, recorded);
}

/** The tags whose target the ledger does not know, so that what it says of itself is needed. */
export function provenanceWanted(requests: readonly TagRequest[], facts: Facts): TagRequest[] {
  return requests.filter(({ repository, wanted, digest, served }) => {
    const recorded = facts.get('tag', tagKey(repository, wanted.tag));
    const known = served === digest || (recorded !== undefined && isPutThere(served, recorded));
    return wanted.rule.kind === 'moving' && served !== undefined && !known;
  });
}

function asTarget({ digest, commit, version }: Fact<'tag'>): CurrentTarget {
  return { digest, position: { commit, version } };
}

/** The ledger may know a tag that never arrived (a run was killed) or was moved by hand: it is put right. */
function asServed(
  { reason }: Pick<MovingDecision, 'reason'>,
  digest: Digest,
  served: Digest | undefined,
  recorded: Fact<'tag'> | undefined,
): Outcome {
  if (served === digest) {
    return { outcome: 'unchanged', reason: 'already points here' };
  }
  if (recorded?.digest === digest) {
    return { outcome: 'restored', reason: driftReason(served, digest) };
  }
  const isAsExpected = recorded === undefined || recorded.digest === served || isUnwritten(recorded, served);
  return {
    outcome: served === undefined ? 'created' : 'moved',
    reason: isAsExpected ? reason : `${reason}; ${driftReason(served, recorded.digest)}`,
  };
}

/** Whether a moving tag stands where it stood before the last decision. */
function isUnwritten({ kind, digest, earlier = [] }: Fact<'tag'>, served: Digest | undefined): boolean {
  return kind === 'moving' && served !== digest && served === earlier[0];
}

/** What is said of a tag that stands elsewhere than the ledger says. */
export function driftReason(served: Digest | undefined, recorded: Digest): string {
  const there = served === undefined ? 'was gone' : `pointed to ${shortDigest(served)}`;
  return `${there}, and the ledger says ${shortDigest(recorded)}`;
}

/** Puts a tag right that stands elsewhere than the ledger says; nothing where it stands there. */
export function restoredTag(
  place: TagPlace,
  { kind, digest, platform }: Pick<Fact<'tag'>, 'kind' | 'digest' | 'platform'>,
  served: Digest | undefined,
): TagDecision[] {
  const { component, repository, tag } = place;
  const reason = driftReason(served, digest);
  return served === digest
    ? []
    : [{ component, repository, tag, kind, platform, digest, outcome: 'restored', reason, served, recorded: digest }];
}

/** Decides about a fixed tag, from what the registry serves and what the ledger recorded. */
export function decideFixed(digest: Digest, served: Digest | undefined, recorded: Digest | undefined): Outcome {
  const other = [served, recorded].find((each) => each !== undefined && each !== digest);
  if (other !== undefined) {
    return { outcome: 'refused', reason: `points to ${other}` };
  }
  if (served === digest) {
    return { outcome: 'unchanged', reason: 'already points here' };
  }
  return recorded === undefined
    ? { outcome: 'created', reason: 'the tag is new' }
    : { outcome: 'restored', reason: driftReason(served, recorded) };
}

/** The tags among decisions that point, or are to point, at what is being released. */
export function tagsToSet(decisions: readonly TagDecision[]): SetTag[] {
  return decisions
    .filter(({ outcome, heldBy }) => outcome !== 'held' && outcome !== 'refused' && heldBy === undefined)
    .map(({ component, repository, tag, kind, digest, platform }) => {
      return { component, repository, tag, kind, digest, ...(platform === undefined ? {} : { platform }) };
    });
}

/** Whether the facts already say everything that an entry with these tags would add. */
export function isRecorded(tags: readonly SetTag[], facts: Facts): boolean {
  return tags.every(
    ({ repository, tag, digest }) => targetOf(facts.get('tag', tagKey(repository, tag)))?.digest === digest,
  );
}

/** Those of some tags that tidying removed. */
export function tidiedAmong(tags: readonly SetTag[], facts: Facts): SetTag[] {
  return tags.filter(({ repository, tag }) => facts.get('tag', tagKey(repository, tag))?.tidied === true);
}
