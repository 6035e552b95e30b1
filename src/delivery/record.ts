import type { Action } from '../core/ledger/entries';
import { formatMoment } from '../core/amounts';
import { madeBy, timeAfter, type Actor } from '../core/ledger/entry';
import { tellingOnce } from '../core/retrying';
import { tagsToSet, tidiedAmong } from '../core/release/tag-decisions';
import { isKnown, type Plan, type Verdict } from '../core/release/verdict';
import { referrersKey, removalKey, type Facts, type Release } from '../core/ledger/facts';
import type { KnownReferrers } from '../core/ledger/entries/known-referrers';
import { reliedOnBy, removedMeanwhile, type ManifestPlace } from '../core/ledger/relied-on';
import { nodesOf, type ContentNode, type ContentSource } from '../core/oci/content';
import { formatRepository } from '../core/oci/reference';
import type { RepositoryTarget } from '../registry/ports';
import type { LedgerState } from '../ledger/ledger';
import type { ReleaseSet } from '../core/ledger/release-set';
import { releaseImages } from '../core/ledger/release-images';
import { releaseOf } from '../core/ledger/entries/published';
import { recordArtifact, signRecord } from '../core/ledger/release-record';
import { signedEntriesAfter } from '../core/ledger/signed-entry';
import { checkSignedHead } from '../ledger/signed-head';
import { timestampOf, type Timestamp } from '../core/time';
import { contended } from '../ledger/problems';
import { unknownTo, type ItemReferrers, type CarriedReferrer } from './referrers/carry';
import { recordReferrer } from './referrers/own-records';
import { settleAll } from '../system/promises';
import { placed, type Delivery, type DeliveryContext, type DeliveryItem } from './delivery';
import type { Judged } from './judge';

/** What appending to the ledger needs. */
export type RecordContext = Pick<DeliveryContext, 'ledger' | 'actor' | 'observer' | 'together'> & {
  readonly product: string;
};

/** What entries are to say, as decided on a head of the ledger. */
export interface DecidedEntries<T> extends LedgerState {
  readonly actions: readonly Action[];
  readonly value: T;
  /** The last entry of the ledger before registries were asked; that of the first decision where it is not given. */
  readonly begun?: number;
  /** Manifests that must be there for it, beside those that the actions name. */
  readonly relies?: readonly ManifestPlace[];
  /** Earlier entries whose texts are dropped with it. */
  readonly compacted?: readonly number[];
}

/** What was decided, and whether entries were appended that say so; none where the ledger said it before. */
export interface Appended<T> {
  readonly value: T;
  readonly appended: boolean;
}

/** The record of a release that is to refer to a component of it. */
export interface Recording extends ItemReferrers {
  readonly item: DeliveryItem;
  readonly carried: readonly [CarriedReferrer];
  /** The ledger did not know of it. */
  readonly isNew: boolean;
}

/** What was decided in the end, and the records that say so to registries. */
export interface Recorded<P extends Plan> {
  readonly verdicts: readonly Verdict<P>[];
  readonly records: readonly Recording[];
}

/** What recording a delivery is given. */
export interface RecordSteps<P extends Plan> {
  readonly judging: () => Promise<Judged<readonly Verdict<P>[]>>;
  /** The products that it is recorded with; undefined where it goes alone. */
  readonly set: ReleaseSet | undefined;
  /** What was carried along with each item. */
  readonly itemReferrers: readonly ItemReferrers[];
  /** Makes sure that an item is where it goes, written by this run, before anything says that it is. */
  readonly arrive: (item: DeliveryItem) => Promise<void>;
}

/**
 * Writes the decision about a delivery into the ledger, deciding again for as long as somebody else is first; and what belongs
 * to its components, where that is not known yet.
 */
export async function record<P extends Plan>(
  delivery: Delivery<P>,
  context: DeliveryContext,
  { judging, set, itemReferrers, arrive }: RecordSteps<P>,
): Promise<Appended<Recorded<P>>> {
  const { product, environment, items, manner } = delivery;
  return appendDeciding({ ...context, product }, async (now) => {
    const { value: verdicts, head, facts, begun } = await judging();
    const at = timeAfter(facts, now);
    let recorded = 0;
    const parts = [];
    for (const verdict of verdicts) {
      const own = items.filter(({ component }) => verdict.arrivals.some((arrival) => arrival.component === component));
      const isSaid = isKnown(environment, verdict, facts);
      const said = isSaid ? undefined : inSet(delivery.action(verdict, own.map(placed), recorded > 0), set);
      recorded += said === undefined ? 0 : 1;
      const known = facts.get('release', verdict.plan.release);
      const arrival = known === undefined ? await withRecord(said, own, { product, at, actor: context.actor }) : said;
      const release = known ?? fresh(arrival, { at, actor: context.actor.name });
      const records = manner.records ? own.map((item) => recordingOf(item, product, release, facts)) : [];
      const along = itemReferrers.filter((_, which) => own.some((item) => item === items[which]));
      const referrers = unknownTo(facts, [...along, ...records]);
      parts.push({
        records,
        actions: [
          ...(isSaid ? returningAction(environment, verdict, own, facts) : []),
          ...withKnownReferrers(arrival, environment, referrers),
        ],
        arriving: arrival === undefined ? [] : own,
      });
    }
    await settleAll(parts.flatMap(({ arriving }) => arriving.map(arrive)));
    return {
      head,
      facts,
      actions: parts.flatMap(({ actions }) => actions),
      begun,
      relies: parts.flatMap(({ arriving }) => arriving.flatMap(manifestsOf)),
      value: { verdicts, records: parts.flatMap(({ records }) => records) },
    };
  });
}

/** An action that names the other products whose releases come in with it. */
function inSet(action: Action, set: ReleaseSet | undefined): Action {
  return action.kind === 'promoted' && set !== undefined ? { ...action, set } : action;
}

/** Throws `content-removed` where tidying removes manifests. */
async function refuseRemoved(
  places: readonly ManifestPlace[],
  begun: number,
  ledger: Pick<DeliveryContext['ledger'], 'read'>,
): Promise<void> {
  if (places.length > 0) {
    const { facts } = await ledger.read(
      places.map(({ repository, digest }) => removalKey(repository, digest)),
      'known',
    );
    const problem = removedMeanwhile(places, begun, facts);
    if (problem !== undefined) {
      throw problem;
    }
  }
}

/** Every manifest of an item, where it goes. */
function manifestsOf({ node, target }: DeliveryItem): ManifestPlace[] {
  return nodesOf(node).map(({ manifest: { digest } }) => ({ repository: target.label, digest }));
}

/** A release that is published just now. */
function fresh(arrival: Action | undefined, circumstances: { at: Timestamp; actor: string }): Release {
  if (arrival?.kind !== 'published') {
    throw new Error('a release that nobody published comes into an environment');
  }
  return releaseOf(arrival, circumstances);
}

/** Names every image of a release that is published just now, and signs its record where hod.yaml names a key. */
async function withRecord(
  action: Action | undefined,
  items: readonly DeliveryItem[],
  { product, at, actor: { name, signer } }: { readonly product: string; readonly at: Timestamp; readonly actor: Actor },
): Promise<Action | undefined> {
  if (action?.kind !== 'published') {
    return action;
  }
  const images = items.flatMap(({ component, node, platforms }) => releaseImages(component, node, platforms));
  const whole = images.length === 0 ? action : { ...action, images };
  if (signer === undefined) {
    return whole;
  }
  return { ...whole, recordSignature: await signRecord(product, releaseOf(whole, { at, actor: name }), signer) };
}

/** The record of a release for one of its components. */
export function recordingOf(item: DeliveryItem, product: string, release: Release, facts: Facts): Recording {
  const { node, target } = item;
  const subject = node.manifest.digest;
  const artifact = readableIn(node.source, recordArtifact(product, release, node.manifest), target);
  const { digest } = artifact.manifest;
  const known = facts.get('referrers', referrersKey(target.label, subject)) ?? [];
  return {
    item,
    target,
    referrers: [recordReferrer(subject, artifact)],
    carried: [{ subject, node: artifact }],
    isNew: !known.some((each) => each.digest === digest),
  };
}

/** A record that its component may have where it comes from: a registry can take its blob over from there. */
function readableIn({ repository }: ContentSource, record: ContentNode, target: RepositoryTarget): ContentNode {
  const isElsewhere = repository !== undefined && formatRepository(repository) !== target.label;
  return isElsewhere ? { ...record, source: { ...record.source, repository } } : record;
}

/** What the ledger is told of a release that it knows, where tidying had removed some of it. */
function returningAction(
  environment: string,
  { plan: { release }, decisions }: Pick<Verdict<Plan>, 'plan' | 'decisions'>,
  items: readonly DeliveryItem[],
  facts: Facts,
): Action[] {
  const tags = tidiedAmong(tagsToSet(decisions), facts);
  const components = items.map(placed).filter(({ component }) => tags.some((tag) => tag.component === component));
  return components.length === 0 ? [] : [{ kind: 'returned', environment, release, components, tags }];
}

/** What the ledger is told of an arrival, and of what came along; of the latter alone where the arrival is known. */
function withKnownReferrers(arrival: Action | undefined, environment: string, referrers: KnownReferrers): Action[] {
  if (referrers.length === 0) {
    return arrival === undefined ? [] : [arrival];
  }
  return [
    arrival?.kind === 'published' || arrival?.kind === 'promoted'
      ? { ...arrival, referrers }
      : { kind: 'referrers', environment, referrers },
  ];
}

/** Clocks of machines differ by as much, in milliseconds; more is said. */
const toleratedSkew = 120_000;

/**
 * The ledger was never free for this run to append.
 * @limit the time in which other runs append first | ms | `ledger-contended`
 */
const patience = 180_000;

/**
 * Appends entries, all at once or none: decides what they say on a head of the ledger, and decides
 * again for as long as somebody else is first. Appends nothing where there is nothing to say.
 *
 * Throws `ledger-contended` where others are first for minutes, `signing-failed`, `ledger-unsigned`, and `content-removed` where
 * tidying removes what the entries rely on.
 */
export async function appendDeciding<T>(
  { ledger, product, actor, observer, together }: RecordContext,
  decide: (now: Timestamp) => Promise<DecidedEntries<T>>,
): Promise<Appended<T>> {
  const asked = performance.now();
  const notice = tellingOnce((text) => observer.waiting(text));
  let first: number | undefined;
  for (let attempt = 1; ; attempt += 1) {
    const now = timestampOf(new Date());
    const { head, facts, actions, value, begun, relies = [], compacted } = await decide(now);
    first ??= begun ?? head.seq;
    await refuseRemoved([...actions.flatMap(reliedOnBy), ...relies], first, ledger);
    const at = timeAfter(facts, now);
    if (actions.length > 0) {
      await checkSignedHead(ledger, { head, facts }, actor.signer, actions);
    }
    const entries = actions.map((action) => ({ product, at, ...madeBy(actor), action }));
    const sealed = await signedEntriesAfter(head, entries, actor.signer);
    const last = sealed.at(-1);
    if (last === undefined) {
      return { value, appended: false };
    }
    const behind = Date.parse(at) - Date.parse(now);
    if (behind > toleratedSkew && attempt === 1) {
      observer.note(
        `the clock of this machine is ${Math.round(behind / 60_000)} min behind the last entry of the ledger; new entries get the time of that entry, ${formatMoment(at)}`,
      );
    }
    const milliseconds = await (together?.append(ledger, sealed, head) ?? ledger.append(sealed, head, compacted));
    if (milliseconds !== undefined) {
      observer.recorded({ seq: last.entry.seq, attempt, milliseconds });
      return { value, appended: true };
    }
    const waited = performance.now() - asked;
    if (waited > patience) {
      throw contended(product, `other runs appended first ${attempt} times, for ${Math.round(waited / 1000)} s`);
    }
    notice(waited, `waiting to append to the ledger of ${product}: other runs appended first ${attempt} times`);
  }
}
