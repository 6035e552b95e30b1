import { isOwnRecord } from '../../core/ledger/rollback-record';
import { HodError } from '../../core/errors';
import type { ContentNode } from '../../core/oci/content';
import type { Digest } from '../../core/oci/digest';
import type { Manifest } from '../../core/oci/manifest';
import { describeReferrer, holdsAllOf, referrersTag, typeOf, withReferrers } from '../../core/oci/referrers';
import type { KnownReferrers } from '../../core/ledger/entries/known-referrers';
import { referrersKey, type FactKey, type Facts } from '../../core/ledger/facts';
import type { Ledger } from '../../ledger/ledger';
import type { RepositoryTarget } from '../../registry/ports';
import { readUnlessGone, type Referrer } from './find';
import { addTransfer, noTransfer, type Carrier, type Transfer } from '../carry';
import { settleAll } from '../../system/promises';

/** The referrers of one component, and where they go. */
export interface ItemReferrers {
  readonly target: RepositoryTarget;
  readonly referrers: readonly Referrer[];
}

/** How many referrers of one component were carried. */
export interface ReferrerCount {
  /** Carried now, and there before. */
  readonly brought: number;
  readonly present: number;
  /** Tags that stand for something else in the target, which is left alone. */
  readonly left: readonly string[];
}

/** What was carried, and is in its repository: it may not be listed there yet. */
export interface CarriedReferrer extends Pick<Referrer, 'subject' | 'tag'> {
  readonly node: ContentNode;
}

/** The referrers of one component, once their content was carried. */
export interface CarriedReferrers extends ItemReferrers {
  readonly carried: readonly CarriedReferrer[];
  readonly count: ReferrerCount;
  readonly transfer: Transfer;
}

/**
 * Carries the referrers of a component; a referrer that the target lists already is not carried again.
 *
 * @param all Carry it whatever the target lists.
 * @param note Told of what is listed where it comes from, and not there.
 */
export async function carryReferrers(
  { target, referrers }: ItemReferrers,
  carrier: Carrier,
  { all, note }: { all: boolean; note: (text: string) => void },
): Promise<CarriedReferrers> {
  const subjects = [...new Set(referrers.map(({ subject }) => subject))];
  const listed = new Map(
    await settleAll(subjects.map(async (subject) => [subject, await target.referrers.referrersOf(subject)] as const)),
  );
  const isThere = ({ subject, digest, tag }: Referrer): boolean =>
    listed.get(subject)?.some((each) => each.tag === tag && each.descriptor.digest === digest) === true;
  const coming = referrers.filter((each) => all || !isThere(each));
  const outcomes = await settleAll(coming.map((each) => carryReferrer(each, target, carrier)));
  const of = (wanted: CarryOutcome['outcome']): Referrer[] =>
    coming.filter((_, at) => outcomes[at]?.outcome === wanted);
  const [gone, left] = [new Set(of('gone')), new Set(of('left'))];
  gone.forEach(({ digest, subject }) => {
    note(`${digest} is listed with what refers to ${subject}, and is not there, or does not refer to it: left behind`);
  });
  return {
    target,
    referrers: referrers.filter((each) => !gone.has(each) && !left.has(each)),
    carried: outcomes.flatMap((each) => (each.outcome === 'carried' ? [each.carried] : [])),
    count: {
      brought: of('carried').filter((each) => !isThere(each)).length,
      present: referrers.filter(isThere).length,
      left: [...left].map(({ tag }) => `${target.label}:${tag ?? ''}`),
    },
    transfer: outcomes
      .flatMap((each) => (each.outcome === 'carried' ? [each.transfer] : []))
      .reduce(addTransfer, noTransfer()),
  };
}

type CarryOutcome =
  | { readonly outcome: 'carried'; readonly carried: CarriedReferrer; readonly transfer: Transfer }
  /** Something else stands under its tag, which it does not hold. */
  | { readonly outcome: 'left' }
  /** It is not there, or does not refer to what it is listed with. */
  | { readonly outcome: 'gone' };

async function carryReferrer(referrer: Referrer, target: RepositoryTarget, carrier: Carrier): Promise<CarryOutcome> {
  const { subject, tag } = referrer;
  const node = await readUnlessGone(referrer);
  // What a list calls it may not be what it is: each release has a record of its own.
  const isRecord = node !== undefined && isOwnRecord(typeOf(node.manifest));
  if (node === undefined || isRecord || (tag === undefined && node.manifest.subject?.digest !== subject)) {
    return { outcome: 'gone' };
  }
  if (!(await isFree(node, tag, target))) {
    return { outcome: 'left' };
  }
  return { outcome: 'carried', carried: { subject, tag, node }, transfer: await carrier.carry(node, target) };
}

/** Whether something may stand under its tag: nothing does, or only what it holds too. */
async function isFree(node: ContentNode, tag: Referrer['tag'], target: RepositoryTarget): Promise<boolean> {
  const there = tag === undefined ? undefined : await target.manifests.get(tag);
  return there === undefined || holdsAllOf(node.manifest, there);
}

/** Returns the referrers of components that the ledger does not know yet. */
export function unknownTo(facts: Facts, itemReferrers: readonly ItemReferrers[]): KnownReferrers {
  const bySubject = new Map<string, KnownReferrers[number]>();
  for (const { target, referrers } of itemReferrers) {
    for (const { subject, digest, type, tag } of referrers) {
      const key = referrersKey(target.label, subject);
      const known = facts.get('referrers', key) ?? [];
      if (!known.some((each) => each.digest === digest && each.tag === tag)) {
        const { referrers } = bySubject.get(key) ?? { referrers: [] };
        const more = { digest, type, ...(tag === undefined ? {} : { tag }) };
        bySubject.set(key, { repository: target.label, subject, referrers: [...referrers, more] });
      }
    }
  }
  return [...bySubject.values()];
}

/** The facts that name the referrers of manifests. */
export function referrerFacts(
  itemReferrers: readonly { target: Pick<RepositoryTarget, 'label'>; subjects: readonly Digest[] }[],
): FactKey[] {
  return itemReferrers.flatMap(({ target, subjects }) =>
    subjects.map((subject): FactKey => ({ kind: 'referrers', key: referrersKey(target.label, subject) })),
  );
}

/** The manifests that have referrers, and the one that may. */
export function subjectsOf(node: ContentNode, referrers: readonly Referrer[]): Digest[] {
  return [...new Set([node.manifest.digest, ...referrers.map(({ subject }) => subject)])];
}

/**
 * Lets registries tell of what was carried: under its tag where it has one; where a registry keeps no list of referrers, in the list
 * under the tag that stands for it.
 *
 * The ledger knows the referrers before anybody writes the list, and is read again after it was written: of several who
 * write at the same time, the last one finds what the others brought, and adds it.
 */
export async function listReferrers(
  carried: readonly Pick<CarriedReferrers, 'target' | 'carried'>[],
  ledger: Pick<Ledger, 'read'>,
): Promise<void> {
  const all = carried.flatMap(({ target, carried: own }) => own.map((each) => ({ ...each, target })));
  await settleAll(all.map((each) => tagReferrer(each, each.target)));
  const lists = new Map<string, { target: RepositoryTarget; subject: Digest; own: Manifest[] }>();
  for (const { target, subject, node, tag } of all) {
    if (tag === undefined) {
      const key = referrersKey(target.label, subject);
      const list = lists.get(key) ?? { target, subject, own: [] };
      list.own.push(node.manifest);
      lists.set(key, list);
    }
  }
  await settleAll(
    [...lists.values()].map(async ({ target, subject, own }) => {
      if (!(await target.referrers.listsByItself(subject))) {
        await settleList(target, subject, own, ledger);
      }
    }),
  );
}

async function tagReferrer({ node: { manifest }, tag }: CarriedReferrer, target: RepositoryTarget): Promise<void> {
  if (tag !== undefined && (await target.manifests.resolve(tag, manifest.digest)) !== manifest.digest) {
    await target.manifests.tag(tag, manifest);
  }
}

/** How often a list is written that is not what it should be when it is read back. */
const attempts = 20;

async function settleList(
  target: RepositoryTarget,
  subject: Digest,
  own: readonly Manifest[],
  ledger: Pick<Ledger, 'read'>,
): Promise<void> {
  const tag = referrersTag(subject);
  const key = referrersKey(target.label, subject);
  const manifests = new Map<Digest, Manifest | undefined>(own.map((manifest) => [manifest.digest, manifest]));
  let gone = new Set<Digest>();
  for (let attempt = 0; attempt < attempts; attempt += 1) {
    const { facts } = await ledger.read([{ kind: 'referrers', key }]);
    const known = (facts.get('referrers', key) ?? [])
      .filter((each) => each.tag === undefined)
      .map(({ digest }) => digest);
    for (const digest of known.filter((each) => !manifests.has(each))) {
      manifests.set(digest, await target.manifests.get(digest));
    }
    const list = await target.manifests.get(tag);
    if (list !== undefined && list.kind !== 'index') {
      throw notAList(target, tag, `an image stands under it, and the list of referrers of ${subject} must stand there`);
    }
    const there = new Set(list?.manifests.map(({ digest }) => digest));
    const missing = [...manifests.values()].filter((each) => each !== undefined && !there.has(each.digest));
    if (missing.length === 0 && gone.size === 0) {
      return;
    }
    const wanted = withReferrers(
      list,
      missing.flatMap((each) => (each === undefined ? [] : [describeReferrer(each)])),
      gone,
    );
    gone = await writeList(target, tag, wanted);
  }
  throw notAList(target, tag, `it was written ${attempts} times, and others wrote it each time`);
}

/** Writes a list. Answers what it names and the registry lacks, where it is refused for that. */
async function writeList(
  target: RepositoryTarget,
  tag: ReturnType<typeof referrersTag>,
  list: Manifest,
): Promise<Set<Digest>> {
  try {
    await target.manifests.put(tag, list);
    return new Set();
  } catch (error) {
    const named = list.kind === 'index' ? list.manifests.map(({ digest }) => digest) : [];
    const lost =
      error instanceof HodError && error.code === 'content-lacking'
        ? await settleAll(
            named.map(async (each) => ((await target.manifests.resolve(each)) === undefined ? [each] : [])),
          )
        : [];
    if (lost.flat().length === 0) {
      throw error;
    }
    return new Set(lost.flat());
  }
}

function notAList({ label }: RepositoryTarget, tag: string, why: string): HodError {
  return new HodError('tag-not-kept', {
    what: 'the list of referrers cannot be written',
    object: `${label}:${tag}`,
    why,
    next: 'find out who writes this tag; or carry no referrers into this environment: `referrers: { carry: none }`',
  });
}
