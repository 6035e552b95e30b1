import type { Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';
import { readDigestTag, referrersTag } from '../oci/referrers';
import type { Tag } from '../oci/tag';
import { protectionTag } from '../build/protection';
import { newContent, type PlacedContent } from './content-history';
import { contentIn, type RepositoryPlan, type StayReason } from './content-plan';

/** A manifest as a registry has it, and what it names. */
export interface HeldManifest {
  readonly digest: Digest;
  /** The manifest that it refers to. */
  readonly subject: Digest | undefined;
  /** Bytes. */
  readonly size: number;
  /** The manifests that it lists. */
  readonly below: readonly Digest[];
  /** Its config and layers; bytes. */
  readonly blobs: readonly { readonly digest: Digest; readonly size: number }[];
}

/** What refers to a manifest. */
export interface HeldReferrer {
  readonly digest: Digest;
  /** The tag that it stands under beside its subject; undefined where it names it. */
  readonly tag: Tag | undefined;
}

/** What a registry says of a repository. */
export interface RepositorySurvey {
  readonly tags: ReadonlySet<Tag>;
  /** Every manifest that was read: what the ledger says is there, what tags lead to, what refers to what may go, and all below. */
  readonly manifests: ReadonlyMap<Digest, HeldManifest>;
  /** What tags lead to that the ledger did not give to content for ever; `unknown`: it never set them. */
  readonly led: readonly LedTag[];
  /** What only tags lead to that the ledger never set, and is as old as was asked for; with these tags. */
  readonly old: ReadonlyMap<Digest, readonly Tag[]>;
  /** What refers to manifests of what may go. */
  readonly referrers: ReadonlyMap<Digest, readonly HeldReferrer[]>;
}

/** A tag, and what it leads to. */
export interface LedTag {
  readonly tag: Tag;
  readonly digest: Digest;
  readonly unknown: boolean;
}

/** Why content stays that the ledger would let go: another product has it, a tag leads to it, or it is part of something that stays. */
export type HoldReason =
  | { readonly why: 'shared'; readonly product: string }
  | { readonly why: 'led'; readonly tag: Tag }
  | { readonly why: 'part'; readonly of: Digest };

/** Content that goes, with everything that goes with it. What several have goes with the first. */
export interface GoingContent {
  readonly placed: PlacedContent;
  /** Tags that the registry lists. */
  readonly tags: readonly Tag[];
  /** What refers to it, and to that; with the tags that they stand under. */
  readonly referrers: readonly HeldReferrer[];
  /** Its manifests, and those of what refers to it. None where the registry has lost them. */
  readonly manifests: readonly Digest[];
}

/** What goes in a repository, and what stays. */
export interface RepositoryRemoval {
  readonly repository: RepositoryName;
  readonly goes: readonly GoingContent[];
  /**
   * The manifests of all that goes, in waves: each in an earlier one than those that it lists, and than the one that it refers to.
   */
  readonly waves: readonly (readonly Digest[])[];
  readonly stays: readonly { readonly placed: PlacedContent; readonly reasons: readonly (StayReason | HoldReason)[] }[];
  /** Tags that the ledger never set: they stay, and all that they lead to. */
  readonly unknown: readonly LedTag[];
  /** Bytes of what goes that nothing shares that stays; and of everything that was read. */
  readonly frees: number;
  readonly holds: number;
}

/** The tags that lead to something that must be read before anything goes: all but those that the ledger gave to content for ever. */
export function tagsToFollow(plan: RepositoryPlan, tags: ReadonlySet<Tag>, manifests: Iterable<Digest>): Tag[] {
  const given = new Set(contentIn(plan).flatMap(tagsOf));
  const stems = new Set([...manifests].map((digest) => readDigestTag(referrersTag(digest))?.stem));
  // A tag that is made of a digest belongs to that manifest, and goes or stays with it.
  return [...tags].filter((tag) => !given.has(tag) && !stems.has(readDigestTag(tag)?.stem ?? ''));
}

/** What the ledger lets go, and what it does not know and is old. */
export function mayGo(plan: RepositoryPlan, old: RepositorySurvey['old']): PlacedContent[] {
  const known = new Set([...contentIn(plan).map(({ digest }) => digest), ...plan.others.keys()]);
  const unknown = [...old].filter(([digest]) => !known.has(digest));
  return [...plan.goes, ...unknown.map(([digest, tags]) => newContent(plan.repository, digest, tags))];
}

/**
 * Decides what goes in a repository: what nothing that stays holds, with what refers to it.
 *
 * @param only What may go; all of it where undefined. The rest is held like what stays.
 */
export function planRemoval(
  plan: RepositoryPlan,
  survey: RepositorySurvey,
  only?: ReadonlySet<Digest>,
): RepositoryRemoval {
  const { repository, goes, stays } = plan;
  const isAsked = (digest: Digest): boolean => only === undefined || only.has(digest);
  const may = mayGo(plan, survey.old);
  const held = heldFromOutside(plan, survey, ({ digest }) => survey.old.has(digest) && isAsked(digest));
  for (const { digest } of [...stays.map(({ placed }) => placed), ...may.filter((each) => !isAsked(each.digest))]) {
    hold(held, digest, { why: 'part', of: digest }, survey);
  }
  const going = may.filter(({ digest }) => !held.has(digest));
  const taken = new Set<Digest>();
  const content = going.map((placed) => goingContent(placed, { held, taken }, survey));
  return {
    repository,
    goes: content,
    waves: removalWaves(taken, survey),
    stays: [
      ...stays,
      ...goes.flatMap((placed) => {
        const reason = held.get(placed.digest);
        return reason === undefined ? [] : [{ placed, reasons: [reason] }];
      }),
    ],
    unknown: survey.led.filter(({ unknown, digest }) => unknown && !taken.has(digest)),
    ...weigh(taken, survey),
  };
}

/** What is held by other products and by tags, with all below it. `isFree`: what a tag leads to is not held by it. */
export function heldFromOutside(
  { others }: Pick<RepositoryPlan, 'others'>,
  survey: RepositorySurvey,
  isFree: (led: LedTag) => boolean,
): Map<Digest, StayReason | HoldReason> {
  const held = new Map<Digest, StayReason | HoldReason>();
  for (const [digest, product] of others) {
    hold(held, digest, { why: 'shared', product }, survey);
  }
  for (const led of survey.led.filter((each) => !isFree(each))) {
    hold(held, led.digest, { why: 'led', tag: led.tag }, survey);
  }
  return held;
}

/** Holds a manifest and all below it. */
function hold(
  held: Map<Digest, StayReason | HoldReason>,
  digest: Digest,
  reason: HoldReason,
  survey: RepositorySurvey,
): void {
  if (!held.has(digest)) {
    held.set(digest, reason);
    survey.manifests.get(digest)?.below.forEach((each) => hold(held, each, reason, survey));
  }
}

/** What is held, and what goes with something else already. */
interface Spoken {
  readonly held: ReadonlyMap<Digest, unknown>;
  readonly taken: Set<Digest>;
}

function goingContent(placed: PlacedContent, spoken: Spoken, survey: RepositorySurvey): GoingContent {
  const referrers: HeldReferrer[] = [];
  const manifests: Digest[] = [];
  for (let level = takeTree(placed.digest, spoken, survey); level.length > 0;) {
    manifests.push(...level);
    const found = level
      .flatMap((digest) => survey.referrers.get(digest) ?? [])
      .filter(({ digest }) => !spoken.held.has(digest));
    referrers.push(...found);
    level = found.flatMap(({ digest }) => takeTree(digest, spoken, survey));
  }
  return {
    placed,
    tags: [...new Set([...tagsOf(placed), ...(survey.old.get(placed.digest) ?? [])])].filter((tag) =>
      survey.tags.has(tag),
    ),
    referrers,
    manifests,
  };
}

/** The tags that go with content: those that it was given for ever, and the one that protected it while it was staged. */
function tagsOf({ tags, digest }: PlacedContent): Tag[] {
  return [...tags, protectionTag(digest)];
}

/** Takes a manifest and those below it that are neither held nor taken. */
function takeTree(root: Digest, { held, taken }: Spoken, { manifests }: RepositorySurvey): Digest[] {
  const own: Digest[] = [];
  const visit = (digest: Digest): void => {
    const manifest = manifests.get(digest);
    if (manifest !== undefined && !held.has(digest) && !taken.has(digest)) {
      taken.add(digest);
      own.push(digest);
      manifest.below.forEach(visit);
    }
  };
  visit(root);
  return own;
}

/** Puts manifests into waves: each into an earlier one than those that it lists, and than the one that it refers to. */
function removalWaves(taken: ReadonlySet<Digest>, { manifests, referrers }: RepositorySurvey): Digest[][] {
  const subjects = new Map<Digest, Digest[]>();
  for (const [subject, all] of referrers) {
    all.forEach(({ digest }) => subjects.set(digest, [...(subjects.get(digest) ?? []), subject]));
  }
  const after = (digest: Digest): Digest[] =>
    [...(manifests.get(digest)?.below ?? []), ...(subjects.get(digest) ?? [])].filter((each) => taken.has(each));
  const seen = new Set<Digest>();
  const last: Digest[] = [];
  const visit = (digest: Digest): void => {
    if (!seen.has(digest)) {
      seen.add(digest);
      after(digest).forEach(visit);
      last.push(digest);
    }
  };
  taken.forEach(visit);
  const waveOf = new Map<Digest, number>();
  const waves: Digest[][] = [];
  for (const digest of last.reverse()) {
    const wave = waveOf.get(digest) ?? 0;
    after(digest).forEach((each) => waveOf.set(each, Math.max(waveOf.get(each) ?? 0, wave + 1)));
    (waves[wave] ??= []).push(digest);
  }
  return waves;
}

/** Bytes of what goes and nothing else holds, and of everything. */
function weigh(taken: ReadonlySet<Digest>, { manifests }: RepositorySurvey): { frees: number; holds: number } {
  const [stay, all] = [new Set<Digest>(), new Map<Digest, number>()];
  for (const { digest, size, blobs } of manifests.values()) {
    all.set(digest, size);
    blobs.forEach((blob) => all.set(blob.digest, blob.size));
    if (!taken.has(digest)) {
      stay.add(digest);
      blobs.forEach((blob) => stay.add(blob.digest));
    }
  }
  const holds = [...all.values()].reduce((sum, size) => sum + size, 0);
  return { holds, frees: [...all].reduce((sum, [digest, size]) => (stay.has(digest) ? sum : sum + size), 0) };
}
