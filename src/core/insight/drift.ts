import { shortDigest, type Digest } from '../oci/digest';
import type { TagKind } from '../tags/rules';
import type { Tag } from '../oci/tag';
import { targetOf, type Fact, type ServedComponent, type Step } from '../ledger/facts';

/**
 * Whether a registry agrees with the ledger. `unfinished`: its tags still stand where they stood before, so whoever moves them
 * was ended, or is not done. `unknown`: it could not be asked.
 */
export const driftStates = ['none', 'unfinished', 'drifted', 'unknown'] as const;

/** How a registry stands to what the ledger says of one component. */
export interface Drift {
  readonly state: (typeof driftStates)[number];
  /** What differs, or why it is not known. */
  readonly detail: string;
}

/** A tag as the ledger recorded it. */
export interface RecordedTag {
  readonly tag: Tag;
  readonly kind: TagKind;
  readonly recorded: Digest;
}

/** A tag as the ledger recorded it, and as the registry serves it; undefined where there is no such tag. */
export interface TagComparison extends RecordedTag {
  readonly served: Digest | undefined;
}

/** The tags that a component was given, as the ledger wants them now. `find`: what the ledger knows of a tag. */
export function recordedTags(
  { digest, tags }: Pick<ServedComponent, 'digest' | 'tags'>,
  find: (tag: Tag) => Fact<'tag'> | undefined,
): RecordedTag[] {
  return tags.flatMap((tag) => {
    const known = find(tag);
    // What is gone by decision may stand there still, where a registry removes no tags.
    const gone = known?.gone === true;
    return gone ? [] : [{ tag, kind: known?.kind ?? 'moving', recorded: targetOf(known)?.digest ?? digest }];
  });
}

/** The one tag that tells the most: it shows that the content is there, and it is the likeliest to be moved. */
export function tellingTag(digest: Digest, tags: readonly RecordedTag[]): RecordedTag | undefined {
  const own = tags.filter(({ recorded }) => recorded === digest);
  return own.find(({ kind }) => kind === 'moving') ?? own[0];
}

/**
 * Compares what the ledger says of a component with what its registry serves.
 *
 * `content`: whether it is still there.
 * @param step What the environment changed when the component took over; undefined where that is not known.
 */
export function driftOf(
  { digest, repository }: Pick<ServedComponent, 'digest' | 'repository'>,
  { content, tags }: { readonly content: boolean; readonly tags: readonly TagComparison[] },
  step: Pick<Step, 'tags'> | undefined,
): Drift {
  const drifted = tags.filter(({ recorded, served }) => served !== recorded);
  const moving = drifted.filter(({ kind }) => kind === 'moving');
  const stayed = moving.filter(({ tag, served }) => {
    const changed = step?.tags.find((each) => each.repository === repository && each.tag === tag);
    return changed !== undefined && changed.was?.digest === served;
  });
  const others = drifted.filter(({ kind, served }) => kind === 'fixed' && served !== undefined);
  // A tag that is not there may be one that was removed; that none is there, or one stands where it stood, is no coincidence.
  const all = tags.filter(({ kind }) => kind === 'moving');
  const told = stayed.some(({ served }) => served !== undefined) || stayed.length === all.length;
  if (content && told && stayed.length > 0 && stayed.length === moving.length && others.length === 0) {
    const names = stayed.map(({ tag }) => tag).join(', ');
    const detail = `${names} not updated yet: that run is still in progress or was interrupted, or somebody moved the tag back`;
    return { state: 'unfinished', detail };
  }
  const findings = [
    ...(content ? [] : [`${shortDigest(digest)} is gone`]),
    ...drifted.map(({ tag, recorded, served }) =>
      served === undefined
        ? `the tag ${tag} is gone`
        : `${tag} points to ${shortDigest(served)}, not to ${shortDigest(recorded)}`,
    ),
  ];
  return { state: findings.length === 0 ? 'none' : 'drifted', detail: findings.join('; ') };
}
