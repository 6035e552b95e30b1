import type { Digest } from '../oci/digest';
import { compareOrder, decideMoving, type Ancestry, type Position } from '../tags/ordering';
import type { WantedTag } from '../tags/rules';
import type { Tag } from '../tags/tag';
import type { SetTag } from './entry';
import { tagKey, type Facts } from './facts';

/** A tag that a rule asks for in one repository, and what stands there now. */
export interface TagRequest {
  readonly image: string;
  /** `registry/name`. */
  readonly repository: string;
  /** What the tag is to point at. */
  readonly digest: Digest;
  readonly wanted: WantedTag;
  /** What the registry says that the tag points at; undefined where there is no such tag. */
  readonly found: Digest | undefined;
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
    const base = { image, repository, tag: wanted.tag, kind: wanted.rule.kind, digest, previous: found };
    if (wanted.rule.kind === 'fixed') {
      return { ...base, ...decideFixed(digest, found, recorded?.digest) };
    }
    const current =
      recorded === undefined
        ? found && { digest: found }
        : { digest: recorded.digest, position: { commit: recorded.commit, version: recorded.version } };
    const decision = decideMoving(wanted.rule.follows, { ...position, digest }, current, ancestry);
    return { ...base, ...decision, ...asSeenInRegistry(decision.outcome, digest, found) };
  });
}

/** The ledger may know a tag that never arrived (a run was killed) or was moved by hand: it is written again. */
function asSeenInRegistry(
  outcome: TagDecision['outcome'],
  digest: Digest,
  found: Digest | undefined,
): Pick<TagDecision, 'outcome'> & Partial<Pick<TagDecision, 'reason'>> {
  if (outcome === 'held' || outcome === 'refused') {
    return { outcome };
  }
  if (found === undefined) {
    return outcome === 'created' ? { outcome } : { outcome: 'created', reason: 'it was not there' };
  }
  if (found === digest) {
    return { outcome: 'unchanged', reason: 'it already points here' };
  }
  return outcome === 'moved' ? { outcome } : { outcome: 'moved', reason: 'something else had moved it' };
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

/** Whether an environment is to run a build from now on: not where it runs something newer. */
export function becomesCurrent(
  environment: string,
  images: readonly string[],
  position: Position,
  facts: Facts,
  ancestry: Ancestry,
): boolean {
  const running = facts.get('environment', environment) ?? {};
  return images.every((image) => {
    const now = running[image];
    const order = now && compareOrder(position, { commit: now.commit, version: now.version }, ancestry);
    return order === undefined || order === 'newer' || order === 'same';
  });
}

/** Whether the facts already say everything that an entry with these tags would add. */
export function isRecorded(tags: readonly SetTag[], facts: Facts): boolean {
  return tags.every(({ repository, tag, digest }) => facts.get('tag', tagKey(repository, tag))?.digest === digest);
}
