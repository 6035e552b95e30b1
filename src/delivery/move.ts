import { HodError } from '../core/errors';
import type { ContentNode, ContentSource } from '../core/oci/content';
import { readContent } from '../core/oci/content';
import { describeManifest } from '../core/oci/manifest';
import { isCarried, type Carrying } from '../core/oci/referrers';
import { recordArtifact } from '../core/ledger/release-record';
import { readRollbackRecord, rollbackType } from '../core/ledger/rollback-record';
import {
  contentKey,
  movedAction,
  planMove,
  tagsAlong,
  type Move,
  type MovedContent,
  type MovePlan,
} from '../core/release/move';
import type { RepositoryReader } from '../registry/ports';
import { settleAll } from '../system/promises';
import { Carrier } from './carry';
import type { DeliveryContext } from './delivery';
import { Judge, type Judged } from './judge';
import type { Place } from './places';
import { appendDeciding } from './record';
import { readOwnRecords, recordReferrer } from './referrers/own-records';
import { carriedOf, findReferrers } from './referrers/find';
import {
  carryReferrers,
  listReferrers,
  referrerFacts,
  subjectsOf,
  unknownTo,
  type CarriedReferrer,
  type ItemReferrers,
} from './referrers/carry';
import { completing, settle } from './settle';
import { readWatchedTags } from './watched-tags';
import { WriteWitness } from './write-rights';

/** Where an environment is from now on, and how its content comes there. */
export interface Moving extends Move {
  readonly product: string;
  readonly places: readonly Place[];
  /** Copy what the environment needs into the new repositories. */
  readonly copies: boolean;
  readonly carrying: Carrying;
  /** Other repositories that may have the content of a component: those that it was in, and those of other environments. */
  readonly sourcesOf: (component: string, former: readonly string[]) => readonly RepositoryReader[];
}

/** What became of an environment that moved. */
export interface MovedEnvironment {
  readonly places: MovePlan['places'];
  /** How many images and bundles were copied, how many were there, and how many a rollback may miss: no repository has them. */
  readonly copied: number;
  readonly present: number;
  readonly lost: readonly MovedContent[];
  readonly tags: number;
}

/**
 * Moves an environment into other repositories: copies what it serves and what rollbacks may need, records where it is now, and
 * only then writes its tags there. A second run copies nothing that the first one copied.
 *
 * @throws `content-gone` before anything is recorded, where no repository has what is served.
 */
export async function moveEnvironment(moving: Moving, context: DeliveryContext): Promise<MovedEnvironment> {
  const { environment, product, places, copies } = moving;
  const { ledger, dryRun } = context;
  const copying = new Copying(moving, context);
  if (dryRun) {
    const { value } = await planWhole(moving, copying, context);
    return answerOf(value, await copying.done());
  }
  const witness = new WriteWitness(places);
  const begun = (await ledger.read([])).head.seq;
  const { value: plan, appended } = await appendDeciding({ ...context, product }, async () => {
    const { value, head, facts } = await planWhole(moving, copying, context);
    const copied = await copying.done();
    const arrived = arrivedOf(copied);
    await witness.check(arrived.map(({ content }) => content));
    const actions = movedAction(moving, value, tagsAlong(value, presentIn(copied)), unknownTo(facts, arrived));
    return { head, facts, actions, value, begun };
  });
  const copied = await copying.done();
  await completing(environment, async () => {
    await listReferrers(arrivedOf(copied), ledger);
    // What was not copied has no tags there yet.
    const { stray } = copies ? await readWatchedTags(environment, places, context) : { stray: [] };
    await settle(places, stray, { ledger, appended, mending: (_, write) => write() });
  });
  return answerOf(plan, copied);
}

/** Plans a move, and copies what comes along, until nothing is missing: somebody may bring more into the former place meanwhile. */
async function planWhole(moving: Moving, copying: Copying, context: DeliveryContext): Promise<Judged<MovePlan>> {
  for (;;) {
    const subjects = arrivedOf(await copying.done()).map(({ target, node, referrers }) => {
      return { target, subjects: subjectsOf(node, referrers) };
    });
    const judge = new Judge(context, moving.places, referrerFacts(subjects));
    const judged = await judge.decide((known) => planMove(moving, known));
    if (!(await copying.more(judged.value))) {
      return judged;
    }
  }
}

/** Copies the content of an environment that moves, each once. */
class Copying {
  private readonly copies = new Map<string, Promise<CopiedContent>>();
  private readonly carrier: Carrier;

  constructor(
    private readonly moving: Moving,
    private readonly context: DeliveryContext,
  ) {
    this.carrier = new Carrier({ dryRun: context.dryRun }, context.observer.transfer);
  }

  /** Copies what of a plan was not copied yet. Answers whether there was any. */
  async more(plan: MovePlan): Promise<boolean> {
    const missing = plan.content.filter((each) => this.moving.copies && !this.copies.has(contentKey(each)));
    for (const each of missing) {
      this.copies.set(contentKey(each), copy(each, plan, this.moving, this.carrier, this.context));
    }
    refuseLost(await this.done(), this.moving);
    return missing.length > 0;
  }

  /** What was copied so far. */
  done(): Promise<CopiedContent[]> {
    return settleAll([...this.copies.values()]);
  }
}

function arrivedOf(copied: readonly CopiedContent[]): ArrivedContent[] {
  return copied.flatMap(({ arrived }) => arrived ?? []);
}

/** The content that is in the new place, by its key. */
function presentIn(copied: readonly CopiedContent[]): Set<string> {
  return new Set(arrivedOf(copied).map(({ content }) => contentKey(content)));
}

function answerOf(plan: MovePlan, copied: readonly CopiedContent[]): MovedEnvironment {
  const of = (wanted: CopiedContent['outcome']): MovedContent[] =>
    copied.filter(({ outcome }) => outcome === wanted).map(({ content }) => content);
  return {
    places: plan.places,
    copied: of('copied').length,
    present: of('present').length,
    lost: of('lost'),
    tags: tagsAlong(plan, presentIn(copied)).length,
  };
}

/** Content that is in the new place, with its referrers. */
interface ArrivedContent extends ItemReferrers {
  readonly content: MovedContent;
  readonly node: ContentNode;
  readonly carried: readonly CarriedReferrer[];
}

interface CopiedContent {
  readonly content: MovedContent;
  /** `lost`: no repository has it. */
  readonly outcome: 'copied' | 'present' | 'lost';
  readonly arrived?: ArrivedContent;
}

/** Copies content from the first repository that has it, with its referrers and the records of its releases. */
async function copy(
  content: MovedContent,
  { former, releases }: MovePlan,
  { product, environment, places, carrying, sourcesOf }: Moving,
  carrier: Carrier,
  { observer }: DeliveryContext,
): Promise<CopiedContent> {
  const { component, digest } = content;
  const target = places.find((each) => each.component === component)?.target;
  if (target === undefined) {
    throw new Error(`${component} moves, and nobody knows where`);
  }
  const node = await readFirst([...sourcesOf(component, former.get(component) ?? []), target], content);
  if (node === undefined) {
    return { content, outcome: 'lost' };
  }
  const wasThere = (await target.manifests.resolve(digest)) !== undefined;
  await carrier.carry(node, target);
  const all = carrying === 'none' ? [] : await findReferrers(node, (type) => isCarried(type, carrying));
  const item = { target, referrers: node.source === target ? [] : carriedOf(node, all, carrying) };
  const referrers = await carryReferrers(item, carrier, {
    all: false,
    note: (text) => {
      observer.note(text);
    },
  });
  const records = carrying === 'none' ? [] : await recordsOf(content, node, releases, { product, environment });
  await settleAll(records.map((artifact) => carrier.carry(artifact, target)));
  return {
    content,
    outcome: wasThere ? 'present' : 'copied',
    arrived: {
      content,
      node,
      target,
      referrers: [...referrers.referrers, ...records.map((artifact) => recordReferrer(digest, artifact))],
      carried: [...referrers.carried, ...records.map((artifact) => ({ subject: digest, node: artifact }))],
    },
  };
}

/** The records of the releases of content; what says that some of them were withdrawn comes along with what says that they were here. */
async function recordsOf(
  content: MovedContent,
  node: ContentNode,
  releases: MovePlan['releases'],
  about: Pick<Moving, 'product' | 'environment'>,
): Promise<ContentNode[]> {
  const artifacts = content.releases.flatMap((id) => {
    const release = releases.get(id);
    return release === undefined ? [] : [recordArtifact(about.product, release, node.manifest)];
  });
  return [...artifacts, ...(await rollbacksOn(node, about))];
}

/** The records of rollbacks of an environment that refer to a manifest where it is read. */
async function rollbacksOn(
  { manifest, source }: ContentNode,
  { product, environment }: Pick<Moving, 'product' | 'environment'>,
): Promise<ContentNode[]> {
  const listed = (await source.referrersOf?.(manifest.digest)) ?? [];
  const read = await readOwnRecords(
    source,
    listed.map(({ descriptor }) => descriptor),
    (type) => type === rollbackType,
  );
  return read.flatMap(({ node, bytes }) => {
    const record = readRollbackRecord(bytes);
    return record?.product === product && record.environment === environment ? [node] : [];
  });
}

/** Reads content from the first of some repositories that has it; undefined where none has, or says so. */
async function readFirst(
  sources: readonly (RepositoryReader & ContentSource)[],
  { digest }: MovedContent,
): Promise<ContentNode | undefined> {
  for (const source of sources) {
    try {
      const manifest = await source.manifests.get(digest);
      if (manifest !== undefined) {
        return await readContent(source, describeManifest(manifest));
      }
    } catch (error) {
      if (!(error instanceof HodError) || !['missing', 'denied', 'unavailable'].includes(error.fault)) {
        throw error;
      }
    }
  }
  return undefined;
}

function refuseLost(copied: readonly CopiedContent[], { environment, places }: Moving): void {
  const served = copied
    .filter(({ outcome, content }) => outcome === 'lost' && content.isServed)
    .map(({ content }) => content);
  if (served.length > 0) {
    throw new HodError('content-gone', {
      what: 'no repository has all that is served',
      object: served.map(({ component, digest }) => {
        return `${places.find((each) => each.component === component)?.target.label ?? component}@${digest}`;
      }),
      why: `the former repositories of ${environment} do not have it, nor do those of the other environments`,
      next: 'leave --mend out: then only a new release comes into the new repository; nothing was changed',
    });
  }
}
