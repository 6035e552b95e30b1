import { HodError } from '../core/errors';
import { bundleType } from '../core/oci/bundle';
import { contentOf, type ContentNode } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { describeManifest } from '../core/oci/manifest';
import { entryAfter, type Action, type Head, type LandedImage, type Landing } from '../core/release/entry';
import { tagKey, type FactKey, type Facts } from '../core/release/facts';
import {
  becomesCurrent,
  decideTags,
  evidenceWanted,
  isRecorded,
  tagsToSet,
  type TagDecision,
  type TagRequest,
} from '../core/release/plan';
import type { Ancestry, Position } from '../core/tags/ordering';
import { wantedTags, type TagFacts, type WantedTags } from '../core/tags/rules';
import type { Ledger, LedgerState } from '../ledger/ledger';
import type { RepositoryClient } from '../registry/repository';
import { Carrier, noTransfer, type CarryTarget, type Limit, type Transfer } from '../registry/transfer';
import type { EnvironmentConfig } from '../workspace/config';
import { evidenceOf } from './evidence';
import { toTagResult, type PublishResult } from './results';
import type { Observer } from './session';

/** What is answered about one image. */
export type DeliveredImage = PublishResult['images'][number];

/** The repository that an image or bundle goes to. */
export type DeliveryTarget = CarryTarget &
  Pick<RepositoryClient, 'manifest' | 'tags' | 'deleteTag' | 'requests' | 'readManifest' | 'openBlob'>;

/** An image or bundle on its way into an environment. */
export interface DeliveryImage {
  readonly image: string;
  readonly node: ContentNode;
  readonly platforms: readonly string[];
  readonly target: DeliveryTarget;
}

/** What a delivery means to do, by what the ledger says at a moment. */
export interface Plan {
  readonly position: Position & { readonly commit: string };
  /** The release, by its id. */
  readonly release: Digest;
  /** The tags of each image. */
  readonly tags: ReadonlyMap<string, WantedTags>;
  /** A version was held back because a newer build has the next one; the reason. */
  readonly late?: string | undefined;
}

/** A release on its way into an environment. */
export interface Delivery<P extends Plan> {
  readonly product: string;
  readonly environment: string;
  readonly images: readonly DeliveryImage[];
  /** The facts that `plan` reads. */
  readonly needs: readonly FactKey[];
  /** Plans anew whenever the ledger has changed. */
  plan(facts: Facts): Promise<P>;
  /** Throws where a rule forbids the plan. Asked after the fixed tags were looked at, whose refusal says more. */
  permit(plan: P, facts: Facts): void;
  /** What to write into the ledger. */
  action(plan: P, landing: Pick<Landing, 'images' | 'tags' | 'current'>): Action;
}

/** What became of a delivery. */
export interface Delivered<P extends Plan> {
  /** What was done in the end. */
  plan: P;
  /** Whether the environment runs this release now. */
  current: boolean;
  images: DeliveredImage[];
}

/** How commits stand to each other. */
export interface Orders {
  around(commit: string, others: readonly string[]): Promise<Ancestry>;
}

/** What a delivery works with. */
export interface DeliveryContext {
  readonly ledger: Ledger;
  readonly history: Orders;
  readonly limit: Limit;
  readonly observer: Pick<Observer, 'transfer' | 'recorded'>;
  /** Who does it, for the ledger. */
  readonly actor: string;
  readonly dryRun: boolean;
  /** Refuse where a moving tag, or a version, would be held by the order of builds. */
  readonly strictOrder: boolean;
}

/** A decision, and the ledger's head that it was made on. */
interface Verdict<P extends Plan> {
  plan: P;
  head: Head;
  facts: Facts;
  requests: readonly TagRequest[];
  decisions: TagDecision[];
  current: boolean;
}

/**
 * Brings a release into an environment: looks, decides, carries all content, writes the decision
 * into the ledger, and only then writes tags. The append to the ledger is the one serialised step;
 * whoever loses it decides again. A run that is killed leaves complete content without tags, or
 * tags still to be written, and the next run goes on from there.
 */
export async function deliver<P extends Plan>(delivery: Delivery<P>, context: DeliveryContext): Promise<Delivered<P>> {
  const judge = new Judge(delivery, context);
  let verdict = await judge.decide();
  const transfers = await carryAll(delivery, verdict.requests, context);
  if (!context.dryRun) {
    if (transfers.some(({ blobsSent }) => blobsSent > 0)) {
      // Sending takes its time. Whoever has no part in this ledger may have written tags meanwhile.
      judge.lookAgain();
    }
    verdict = await record(delivery, judge, context);
    verdict = { ...verdict, decisions: await settle(delivery, verdict.decisions, context) };
  }
  const { plan, current, decisions } = verdict;
  return {
    plan,
    current,
    images: delivery.images.map((image, at) => describe(image, plan, decisions, transfers[at] ?? noTransfer())),
  };
}

function describe(
  { image, node, platforms, target }: DeliveryImage,
  plan: Plan,
  decisions: readonly TagDecision[],
  transfer: Transfer,
): DeliveredImage {
  return {
    image,
    kind: node.manifest.artifactType === bundleType ? 'bundle' : 'image',
    repository: target.label,
    digest: node.manifest.digest,
    mediaType: node.manifest.mediaType,
    platforms: [...platforms],
    tags: decisions.filter((decision) => decision.image === image).map(toTagResult),
    omitted: (plan.tags.get(image)?.left ?? []).map(({ rule, lacks }) => ({ rule: rule.template.text, lacks })),
    transfer: { ...transfer, requests: target.requests },
  };
}

/** An image and its digest. */
export function identified({ image, node }: DeliveryImage): { image: string; digest: Digest } {
  return { image, digest: node.manifest.digest };
}

/** Looks at the registries and the ledger, as often as it takes, and decides. Remembers what the registries said. */
class Judge<P extends Plan> {
  private readonly found = new Map<string, Promise<Digest | undefined>>();
  private readonly evidence = new Map<string, Promise<Position | undefined>>();
  private keys: readonly FactKey[];

  constructor(
    private readonly delivery: Delivery<P>,
    private readonly context: DeliveryContext,
  ) {
    this.keys = delivery.needs;
  }

  /** Forgets what the registries said. */
  lookAgain(): void {
    this.found.clear();
  }

  /** Decides on the newest head of the ledger. Throws where a rule refuses. */
  async decide(): Promise<Verdict<P>> {
    const { delivery, context } = this;
    for (;;) {
      const { head, facts } = await context.ledger.read(this.keys);
      const plan = await delivery.plan(facts);
      const requests = await this.survey(plan);
      const needed = factsFor(delivery, plan, requests);
      if (needed.some((key) => !this.keys.some((known) => known.kind === key.kind && known.key === key.key))) {
        // The plan has only now said which facts it turns on.
        this.keys = [...delivery.needs, ...needed];
        continue;
      }
      const explained = await this.explain(requests, facts);
      const { position } = plan;
      const ancestry = await context.history.around(
        position.commit,
        otherCommits(position.commit, explained, delivery.environment, facts),
      );
      const decisions = decideTags(explained, position, facts, ancestry);
      refuseOverwrites(decisions);
      delivery.permit(plan, facts);
      if (context.strictOrder) {
        refuseLate(decisions, plan.late);
      }
      const images = delivery.images.map(({ image }) => image);
      const current = becomesCurrent(delivery.environment, decisions, images, position, facts, ancestry);
      return { plan, head, facts, requests, decisions, current };
    }
  }

  /** What the registries serve now under every tag of a plan. */
  private survey(plan: P): Promise<TagRequest[]> {
    const requests = this.delivery.images.flatMap(({ image, node, target }) =>
      (plan.tags.get(image)?.wanted ?? []).map(async (wanted): Promise<TagRequest> => {
        const key = tagKey(target.label, wanted.tag);
        const looked = this.found.get(key) ?? this.context.limit(() => target.resolve(wanted.tag));
        this.found.set(key, looked);
        const digest = await looked;
        const found = digest && { digest };
        return { image, repository: target.label, digest: node.manifest.digest, wanted, found };
      }),
    );
    return Promise.all(requests);
  }

  /** Adds what targets that the ledger does not know tell of themselves. */
  private explain(requests: readonly TagRequest[], facts: Facts): Promise<TagRequest[]> {
    const unknown = evidenceWanted(requests, facts);
    return Promise.all(
      requests.map(async (request) => {
        const { found, image, wanted } = request;
        const target = this.delivery.images.find((each) => each.image === image)?.target;
        if (found === undefined || target === undefined || !unknown.includes(request)) {
          return request;
        }
        const versions = wanted.rule.kind === 'moving' && wanted.rule.follows !== 'branch';
        const key = `${target.label}@${found.digest} ${versions}`;
        const told = this.evidence.get(key) ?? this.context.limit(() => evidenceOf(target, found.digest, versions));
        this.evidence.set(key, told);
        return { ...request, found: { ...found, evidence: await told } };
      }),
    );
  }
}

/** The facts that a decision about a plan turns on. */
function factsFor(delivery: Delivery<Plan>, { release }: Plan, requests: readonly TagRequest[]): FactKey[] {
  return [
    { kind: 'release', key: release },
    { kind: 'environment', key: delivery.environment },
    ...requests.map(({ repository, wanted }): FactKey => ({ kind: 'tag', key: tagKey(repository, wanted.tag) })),
  ];
}

function otherCommits(own: string, requests: readonly TagRequest[], environment: string, facts: Facts): string[] {
  const moving = requests.filter(({ wanted }) => wanted.rule.kind === 'moving');
  const tagged = moving.map(({ repository, wanted }) => facts.get('tag', tagKey(repository, wanted.tag))?.commit);
  const served = moving.map(({ found }) => found?.evidence?.commit);
  const running = Object.values(facts.get('environment', environment) ?? {}).map(({ commit }) => commit);
  return [...tagged, ...served, ...running].filter((commit) => commit !== undefined).filter((commit) => commit !== own);
}

/** Throws `refused` where something would be held by the order of builds. */
function refuseLate(decisions: readonly TagDecision[], version: string | undefined): void {
  const late = decisions.filter((decision) => decision.late);
  if (late.length === 0 && version === undefined) {
    return;
  }
  throw new HodError('refused', {
    what: 'this build comes too late',
    object: [
      ...(version === undefined ? [] : ['its version']),
      ...late.map((each) => tagKey(each.repository, each.tag)),
    ].join('\n'),
    why: [...new Set([...(version === undefined ? [] : [version]), ...late.map(({ reason }) => reason)])].join('\n'),
    next: 'nothing was changed; without --strict-order everything else is published, and this is left alone',
  });
}

/** Throws `refused` where a decision would overwrite a fixed tag, naming each with both digests. */
export function refuseOverwrites(decisions: readonly TagDecision[]): void {
  const refused = decisions.filter(({ outcome }) => outcome === 'refused');
  const [first] = refused;
  if (first === undefined) {
    return;
  }
  throw new HodError('refused', {
    what: refused.length === 1 ? 'a fixed tag stands for another digest' : 'fixed tags stand for other digests',
    object: refused.map(({ repository, tag }) => tagKey(repository, tag)).join('\n'),
    why: refused
      .map(({ image, tag, digest, reason }) => `${image}:${tag} ${reason}\n  this build is ${digest}`)
      .join('\n'),
    next: 'a fixed tag is never overwritten: publish this build from a new commit, or with a new version; nothing was changed',
  });
}

async function carryAll(
  delivery: Delivery<Plan>,
  requests: readonly TagRequest[],
  { limit, observer, dryRun }: DeliveryContext,
): Promise<Transfer[]> {
  const carrier = new Carrier(limit, dryRun, observer.transfer);
  const carried = await Promise.allSettled(
    delivery.images.map(async ({ image, node, target }) => {
      const transfer = noTransfer();
      const { digest } = node.manifest;
      if (requests.some((request) => request.image === image && request.found?.digest === digest)) {
        transfer.blobsPresent = contentOf(node).blobs.length;
      } else {
        await carrier.carry(node, target, transfer);
      }
      return transfer;
    }),
  );
  return carried.map((each) => {
    if (each.status === 'rejected') {
      throw each.reason;
    }
    return each.value;
  });
}

/** Writes the decision into the ledger, deciding again for as long as somebody else is first. */
async function record<P extends Plan>(
  delivery: Delivery<P>,
  judge: Judge<P>,
  { ledger, actor, observer }: DeliveryContext,
): Promise<Verdict<P>> {
  for (let attempt = 1; ; attempt += 1) {
    const verdict = await judge.decide();
    const { plan, head } = verdict;
    const tags = tagsToSet(verdict.decisions);
    const arrived = verdict.facts.get('release', plan.release)?.arrived[delivery.environment];
    if (arrived !== undefined && isRecorded(tags, verdict.facts)) {
      return verdict;
    }
    const images = delivery.images.map(landed);
    const entry = entryAfter(head, {
      product: delivery.product,
      at: new Date().toISOString(),
      actor,
      action: delivery.action(plan, { images, tags, current: verdict.current }),
    });
    const milliseconds = await ledger.append([entry], head);
    if (milliseconds !== undefined) {
      observer.recorded({ seq: entry.entry.seq, attempt, milliseconds });
      return verdict;
    }
  }
}

/** An image as it stands in a repository, for the ledger. */
export function landed({ image, node, platforms, target }: DeliveryImage): LandedImage {
  return { image, repository: target.label, ...describeManifest(node.manifest), platforms: [...platforms] };
}

/**
 * Makes the registries serve what the ledger says, for the tags of this delivery. Reads the ledger
 * again after writing: where something newer was published meanwhile, that is what the tag must
 * end with, whoever wrote last.
 */
async function settle(
  delivery: Delivery<Plan>,
  decisions: TagDecision[],
  context: DeliveryContext,
): Promise<TagDecision[]> {
  const ours = decisions.filter(({ outcome }) => outcome !== 'held');
  const served = new Map<string, Digest | undefined>(
    ours.map(({ repository, tag, previous }) => [tagKey(repository, tag), previous]),
  );
  const keys = [...served.keys()].map((key): FactKey => ({ kind: 'tag', key }));
  for (;;) {
    const { facts }: LedgerState = await context.ledger.read(keys);
    const pending = ours.flatMap((decision) => {
      const key = tagKey(decision.repository, decision.tag);
      const digest = facts.get('tag', key)?.digest;
      return digest === undefined || digest === served.get(key) ? [] : [{ decision, key, digest }];
    });
    if (pending.length === 0) {
      return decisions.map((decision) => asServed(decision, served.get(tagKey(decision.repository, decision.tag))));
    }
    // Fixed tags first: whoever sees a moving tag move finds the version there too.
    for (const kind of ['fixed', 'moving'] as const) {
      await Promise.all(
        pending
          .filter(({ decision }) => decision.kind === kind)
          .map(async ({ decision, key, digest }) => {
            await context.limit(() => writeTag(delivery, decision, digest));
            served.set(key, digest);
          }),
      );
    }
  }
}

function asServed(decision: TagDecision, served: Digest | undefined): TagDecision {
  return decision.outcome === 'held' || served === decision.digest
    ? decision
    : { ...decision, outcome: 'held', reason: 'something newer was published meanwhile', late: true };
}

async function writeTag(delivery: Delivery<Plan>, { image, tag }: TagDecision, digest: Digest): Promise<void> {
  const found = delivery.images.find((each) => each.image === image);
  if (found === undefined) {
    throw new Error(`the tag ${tag} is for ${image}, which is not delivered`);
  }
  const { node, target } = found;
  const manifest = node.manifest.digest === digest ? node.manifest : await target.manifest(digest);
  if (manifest === undefined) {
    throw new HodError('missing', {
      what: 'a tag cannot be brought up to date',
      object: tagKey(target.label, tag),
      why: `the ledger says that it points at ${digest}, which is not in the registry`,
      next: 'publish that build again',
    });
  }
  await target.putManifest(tag, manifest);
}

/**
 * The tags of every image in an environment. Throws `usage` where no rule gives a tag for one, unless
 * its version was held: then there may be nothing to tag.
 */
export function tagsIn(
  { name, rules }: EnvironmentConfig,
  images: readonly DeliveryImage[],
  facts: TagFacts,
  held = false,
): ReadonlyMap<string, WantedTags> {
  return new Map(
    images.map(({ image }) => {
      const tags = wantedTags(rules, facts, image);
      if (tags.wanted.length === 0 && !held) {
        refuseWithoutTags(`${image} in ${name}`, tags);
      }
      return [image, tags];
    }),
  );
}

function refuseWithoutTags(object: string, { left }: WantedTags): never {
  const lacks = [...new Set(left.map((each) => each.lacks))].join(', ');
  const option = lacks.includes('branch') ? '--branch' : '--version';
  throw new HodError('usage', {
    what: 'nothing would be tagged',
    object,
    why: `every tag rule needs something that is not there: ${lacks}`,
    next: lacks.includes('working copy')
      ? 'commit the changes and build again, or add a moving tag to hod.yaml'
      : `give it (${option}), or add a rule such as "c-{commit:12}" to hod.yaml`,
  });
}
