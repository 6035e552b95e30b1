import { trustsNobody } from '../core/trust/trust-rules';
import { HodError } from '../core/errors';
import type { RepositoryName } from '../core/oci/reference';
import type { Action } from '../core/ledger/entries';
import type { Build } from '../core/build/build';
import { servedIn } from '../core/ledger/environment';
import { inSpiteOfNothing } from '../core/release/despite';
import type { SealedEntry } from '../core/ledger/entry';
import {
  everUnder,
  listedIn,
  stepKey,
  tagKey,
  withdrawalOf,
  type Facts,
  type Release,
  type Step,
  type TagPlace,
} from '../core/ledger/facts';
import { contentId, type ReleaseId } from '../core/ledger/release';
import { noAdmissionRules } from '../core/ledger/rules';
import { everyBranch } from '../core/release/gates/taking';
import { together } from '../core/release/knowledge';
import { decidePromotion, promotedAction, type NamedChoice, type Promotion } from '../core/release/promotion';
import { decidePublication, publishedAction, type Publication } from '../core/release/publication';
import type { ReleaseRecord } from '../core/ledger/release-record';
import type { RollbackRecord } from '../core/ledger/rollback-record';
import type { Verdict, Plan } from '../core/release/verdict';
import { decideRollback } from '../core/release/rollback';
import { rolledBackAction, type Rollback } from '../core/release/rollback-plan';
import type { Tag } from '../core/oci/tag';
import { describePosition } from '../core/tags/ordering';
import { adoptAgain } from './adopt-again';
import type { FoundArrival, LostEnvironment, Remains } from './found';
import { RebuiltLedger } from './rebuilt-ledger';

/** A ledger that was made again, and what of it is not as it was. */
export interface Rebuilt {
  readonly entries: readonly SealedEntry[];
  readonly facts: Facts;
  /** The names of all environments, the first one first. */
  readonly environments: readonly string[];
  /** Environments whose tags lead to something else than was made out. */
  readonly unexplained: readonly UnexplainedTags[];
}

/** Tags of an environment that no history leads to. */
export interface UnexplainedTags {
  readonly environment: string;
  readonly tags: readonly string[];
  /** They are tags of what it would serve: nobody can tell what it serves. */
  readonly isUnclear: boolean;
}

/**
 * Makes a ledger of what registries tell: plays the publications again in the order of their time, then the promotions into each
 * environment in the same order, by the very rules that decided about them; and where an environment serves something older
 * than that leads to, the rollback that it must have had.
 */
export async function rebuild(remains: Remains): Promise<Rebuilt> {
  const { environments } = remains;
  let ledger = new RebuiltLedger(remains.product, remains.actor);
  const unexplained: UnexplainedTags[] = [];
  for (const environment of environments) {
    ledger = await playEnvironment(environment, ledger, remains);
    const { name } = environment;
    const named = remains.serves.get(name);
    const tags =
      named === undefined
        ? await rollBackAgain(environment, ledger, remains)
        : await rollBackTo(named, environment, ledger, remains);
    if (tags.length > 0) {
      const isUnclear = named === undefined && !isTold(name, ledger.facts, remains);
      unexplained.push({ environment: name, tags, isUnclear });
    }
  }
  return {
    entries: ledger.ledger.sealed,
    facts: ledger.facts,
    environments: environments.map(({ name }) => name),
    unexplained,
  };
}

/**
 * Plays what came into an environment and the rollbacks that its registries tell of. Where tags lead elsewhere than that, and
 * to where they are without the latest rollbacks, what those withdrew has come back since: tags tell more than records.
 * Only the last few are doubted: anyone who can push can forge any number.
 */
async function playEnvironment(
  environment: LostEnvironment,
  before: RebuiltLedger,
  remains: Remains,
): Promise<RebuiltLedger> {
  const rollbacks = remains.rollbacks.get(environment.name) ?? [];
  const fewer = [0, 1, 2, 3].map((doubted) => rollbacks.length - doubted).filter((count) => count > 0);
  let best: { ledger: RebuiltLedger; drift: number } | undefined;
  for (const count of [...fewer, 0]) {
    // When something came into the first environment is known, and when into others is not.
    for (const order of environment.before.length === 0 ? (['late'] as const) : (['early', 'late'] as const)) {
      const ledger = before.copy();
      await playArrivals(environment, { rollbacks: rollbacks.slice(0, count), order }, ledger, remains);
      const drift = driftIn(environment.name, ledger.facts, remains).length;
      if (best === undefined || drift < best.drift) {
        best = { ledger, drift };
      }
      if (drift === 0) {
        return ledger;
      }
    }
  }
  return best?.ledger ?? before;
}

/**
 * Plays what came into an environment, in the order of its publication, and rollbacks in between: as early as they can have been,
 * with all that they withdrew there, or as late, before what was published after them.
 */
async function playArrivals(
  environment: LostEnvironment,
  { rollbacks, order }: { readonly rollbacks: readonly RollbackRecord[]; readonly order: 'early' | 'late' },
  ledger: RebuiltLedger,
  remains: Remains,
): Promise<void> {
  const { arrivals, releases } = remains;
  const found = [...(arrivals.get(environment.name) ?? [])].sort((a, b) => inTime(releases, a, b));
  /** The last arrival that a rollback comes after. */
  const dueAfter = ({ at, withdrawn }: RollbackRecord): number =>
    found.findLastIndex(({ release }) => {
      const published = releases.get(release)?.published;
      return order === 'late' ? published !== undefined && published <= at : withdrawn.includes(release);
    });
  const waiting = new Map(rollbacks.map((rollback) => [rollback, dueAfter(rollback)]));
  for (const [at, arrival] of found.entries()) {
    await playArrival(arrival, environment, ledger, remains);
    for (const [rollback, due] of [...waiting]) {
      if (due <= at && (await rollBackTold(rollback, environment, ledger, remains))) {
        waiting.delete(rollback);
      }
    }
  }
}

async function playArrival(
  arrival: FoundArrival,
  environment: LostEnvironment,
  ledger: RebuiltLedger,
  remains: Remains,
): Promise<void> {
  const record = remains.releases.get(arrival.release);
  if (record !== undefined) {
    await (environment.before.length === 0
      ? publishAgain(record, arrival, environment, ledger, remains)
      : promoteAgain(record, arrival, environment, ledger, remains));
  }
}

/** Plays a rollback that a registry recorded. Returns whether the releases that were played so far allow it. */
async function rollBackTold(
  { lane, to: id, at, withdrawn }: RollbackRecord,
  environment: LostEnvironment,
  ledger: RebuiltLedger,
  remains: Remains,
): Promise<boolean> {
  const to = id === undefined ? undefined : remains.releases.get(id);
  const candidate = { lane, to: to === undefined ? undefined : named(to) };
  const actions = await rollbackIn(candidate, environment, ledger, remains).catch(refusedOnly);
  // Registries tell once that a release came. One that came beside, and took over when it came again, was withdrawn nevertheless.
  const returned = (remains.arrivals.get(environment.name) ?? []).filter(
    ({ release }) =>
      withdrawn.includes(release) &&
      !withdrawnBy(actions).includes(release) &&
      isBeside(release, environment.name, ledger.facts),
  );
  const isExplained =
    returned.length > 0 && (await withdraws(returned, candidate, environment, { ledger: ledger.copy(), remains }));
  for (const arrival of isExplained ? returned : []) {
    await playArrival(arrival, environment, ledger, remains);
  }
  const played = isExplained ? await rollbackIn(candidate, environment, ledger, remains) : actions;
  played?.forEach((action) => {
    ledger.add(action, at);
  });
  return played !== undefined;
}

/** Whether a rollback withdraws releases that come in once more before it. Changes the ledger that it is given. */
async function withdraws(
  returned: readonly FoundArrival[],
  candidate: Candidate,
  environment: LostEnvironment,
  { ledger, remains }: { readonly ledger: RebuiltLedger; readonly remains: Remains },
): Promise<boolean> {
  for (const arrival of returned) {
    await playArrival(arrival, environment, ledger, remains);
  }
  const withdrawn = withdrawnBy(await rollbackIn(candidate, environment, ledger, remains).catch(refusedOnly));
  return returned.every(({ release }) => withdrawn.includes(release));
}

/** The releases that a rollback withdraws. */
function withdrawnBy(actions: readonly Action[] = []): ReleaseId[] {
  return actions.flatMap((action) =>
    action.kind === 'rolled-back' ? action.withdrawn.map(({ release }) => release) : [],
  );
}

/** Whether an environment has a release beside what it serves, and was not rolled back from it. */
function isBeside(id: ReleaseId, environment: string, facts: Facts): boolean {
  const release = facts.get('release', id);
  return (
    release !== undefined &&
    release.arrived.some((stay) => stay.environment === environment && stay.way === 'beside') &&
    withdrawalOf(facts, environment, contentId(release.components)) === undefined
  );
}

function inTime(releases: Remains['releases'], a: FoundArrival, b: FoundArrival): number {
  const [one, other] = [a, b].map(({ release }) => releases.get(release)?.published ?? '');
  return (one ?? '') < (other ?? '') ? -1 : 1;
}

function arrivingOf({ components, imagesOf }: FoundArrival) {
  return components.map(({ component, digest, repository }) => {
    return { component, digest, repository, images: imagesOf(component) };
  });
}

async function publishAgain(
  record: ReleaseRecord,
  arrival: FoundArrival,
  { name, rulesOf }: LostEnvironment,
  ledger: RebuiltLedger,
  remains: Remains,
): Promise<void> {
  const { product, orders } = remains;
  const { version, commit, branch, pullRequest = false, build: number, run } = record;
  const build: Build = {
    commit,
    branch,
    number,
    run,
    pullRequest,
    date: await remains.dayOf(commit),
    dirty: false,
    shallow: false,
    version:
      version === undefined
        ? { kind: 'none', near: [] }
        : { kind: 'given', version, source: 'the record of the release' },
  };
  const components = arrivingOf(arrival);
  const publication: Publication = {
    product,
    environment: name,
    from: null,
    rulesOf,
    following: await remains.following(record),
    build,
    components,
    lists: listedIn(record),
    claims: [],
    strictOrder: false,
    despite: inSpiteOfNothing,
    checkout: undefined,
    reception: undefined,
  };
  const judge = ledger.judge(
    components.map(({ repository }) => repository),
    orders,
  );
  const { value } = await judge.rehearse((known) => together([decidePublication(publication, known)]));
  const [verdict] = value;
  if (verdict !== undefined) {
    const action = publishedAction(publication, verdict, [...arrival.components]);
    ledger.add(withKnownReferrers(withImages(action, record, arrival, remains), arrival), record.published);
  }
}

/** A publication names every image, as its signed record does. */
function withImages(
  action: Action,
  { release }: ReleaseRecord,
  { imagesOf }: FoundArrival,
  { signatures }: Remains,
): Action {
  if (action.kind !== 'published') {
    return action;
  }
  const recordSignature = signatures.get(release);
  const images = action.components.flatMap(({ component }) => imagesOf(component));
  return {
    ...action,
    ...(images.length === 0 ? {} : { images }),
    ...(recordSignature === undefined ? {} : { recordSignature }),
  };
}

async function promoteAgain(
  record: ReleaseRecord,
  arrival: FoundArrival,
  { name, before, rulesOf }: LostEnvironment,
  ledger: RebuiltLedger,
  { product, orders, now, dayOf }: Remains,
): Promise<void> {
  const release: Release | undefined = ledger.facts.get('release', arrival.release);
  if (release === undefined) {
    await adoptAgain(record, arrival, { name, before, rulesOf }, { ledger, product, orders });
    return;
  }
  const [nearest = name] = before;
  // An environment between may be younger than the release, which did not pass through it then.
  const from = before.find((each) => release.arrived.some(({ environment }) => environment === each)) ?? nearest;
  const components = arrivingOf(arrival).map((each) => {
    return { ...each, kind: 'image' as const, platforms: [], annotations: [], referrers: [], documents: [] };
  });
  const promotion: Promotion = {
    product,
    parts: [{ release, components, date: await dayOf(release.commit), commitSigner: undefined }],
    from,
    environment: name,
    rulesOf,
    taking: everyBranch,
    admissionRules: noAdmissionRules,
    trust: trustsNobody,
    placesBefore: () => [],
    now,
    strictOrder: false,
    despite: inSpiteOfNothing,
    checkout: undefined,
  };
  const judge = ledger.judge(
    components.map(({ repository }) => repository),
    orders,
  );
  const { value } = await judge.rehearse((known) => decidePromotion(promotion, known));
  const [verdict]: readonly Verdict<Plan>[] = value;
  if (verdict !== undefined) {
    ledger.add(
      withKnownReferrers(
        promotedAction(promotion, verdict, [...arrival.components], { decidedTogether: false }),
        arrival,
      ),
      now,
    );
  }
}

function withKnownReferrers(action: Action, { referrers }: FoundArrival): Action {
  return referrers.length > 0 && (action.kind === 'published' || action.kind === 'promoted')
    ? { ...action, referrers }
    : action;
}

/**
 * Where the moving tags of an environment lead elsewhere than the ledger says: the rollback after which they lead where they do,
 * of the whole environment, or of lines of it and then of the environment. Answers the tags that lead elsewhere still.
 */
async function rollBackAgain(
  environment: LostEnvironment,
  ledger: RebuiltLedger,
  remains: Remains,
): Promise<readonly string[]> {
  const { name } = environment;
  const whole = async (): Promise<boolean> =>
    firstThat(stepsBack(name, ledger.facts), environment, ledger, remains, (after) => after.length === 0);
  let drifted = driftIn(name, ledger.facts, remains);
  if (drifted.length === 0 || (await whole())) {
    return [];
  }
  // It explains a part of what leads elsewhere, and leads nothing else astray.
  const explains = (after: readonly string[]): boolean =>
    after.length < drifted.length && after.every((tag) => drifted.includes(tag));
  // Some tag may have been cleaned up: what is served is known where its own tags are right.
  if (!isTold(name, ledger.facts, remains)) {
    const isServed = (after: readonly string[], facts: Facts): boolean =>
      explains(after) && isTold(name, facts, remains);
    await firstThat(stepsBack(name, ledger.facts), environment, ledger, remains, isServed);
    drifted = driftIn(name, ledger.facts, remains);
  }
  for (const lane of ledger.facts.get('environment', name)?.lanes ?? []) {
    if (await firstThat(laneStepsBack(name, lane, ledger.facts), environment, ledger, remains, explains)) {
      drifted = driftIn(name, ledger.facts, remains);
    }
  }
  return drifted.length === 0 || (await whole()) ? [] : drifted;
}

/** The moving tags of what an environment serves: they tell that. */
function tellingTags(environment: string, facts: Facts): TagPlace[] {
  return servedIn(facts, environment)
    .flatMap(({ component, repository, tags }) => tags.map((tag) => ({ component, repository, tag })))
    .filter(({ repository, tag }) => facts.get('tag', tagKey(repository, tag))?.kind === 'moving');
}

/**
 * Whether tags tell that an environment serves what a ledger says: one of each component does, and none stands elsewhere. A
 * component without moving tags, such as one that is included, comes and goes with the others.
 */
function isTold(environment: string, facts: Facts, { served, environments }: Remains): boolean {
  const telling = tellingTags(environment, facts).map((tag) => {
    const is = served(tag.repository, tag.tag);
    return { ...tag, is, isRight: is === facts.get('tag', tagKey(tag.repository, tag.tag))?.digest };
  });
  const rules = environments.find(({ name }) => name === environment)?.rulesOf;
  const isTelling = (component: string): boolean => rules?.(component).some(({ kind }) => kind === 'moving') ?? true;
  const all = servedIn(facts, environment);
  const some = all.filter(({ component }) => isTelling(component));
  return (some.length === 0 ? all : some).every(({ component }) => {
    const own = telling.filter((each) => each.component === component);
    return own.some(({ isRight }) => isRight) && own.every(({ is, isRight }) => isRight || is === undefined);
  });
}

/**
 * Rolls an environment back to what somebody says that it serves. Answers the tags that lead elsewhere still.
 *
 * @throws what refuses the rollback, where it never had that.
 */
async function rollBackTo(
  to: NamedChoice,
  environment: LostEnvironment,
  ledger: RebuiltLedger,
  remains: Remains,
): Promise<readonly string[]> {
  const { name } = environment;
  const isIt = (each: { version?: string | undefined; commit: string }): boolean =>
    'version' in to ? each.version === to.version : each.commit === to.commit;
  const had = (remains.arrivals.get(name) ?? []).flatMap(({ release }) => remains.releases.get(release) ?? []);
  if (!had.some(isIt)) {
    throw new HodError('never-published', {
      what: 'this environment never had that release',
      object: `${name}: ${describePosition(to)}`,
      why: `its repositories hold no record of it`,
      next: `name one that it had: ${had.map(describePosition).slice(-5).join(', ') || 'none is known'}`,
    });
  }
  if (!servedIn(ledger.facts, name).some(isIt)) {
    const [action] = await rollbackIn({ lane: undefined, to }, environment, ledger, remains);
    if (action !== undefined) {
      ledger.add(action, remains.now);
    }
  }
  return driftIn(name, ledger.facts, remains);
}

/** A rollback that an environment may have had. */
type Candidate = Pick<Rollback, 'lane' | 'to'>;

/** The rollbacks that an environment may have had, to each release that came, the newest first. */
function stepsBack(environment: string, facts: Facts): Candidate[] {
  return arrivalsIn(environment, facts).map((of) => ({ lane: undefined, to: named(of) }));
}

/** The rollbacks that a lane of an environment may have had: to each release that came to it, the newest first, or to none. */
function laneStepsBack(environment: string, lane: string, facts: Facts): Candidate[] {
  const came = arrivalsIn(environment, facts).filter(({ step }) => step.lanes.some((each) => each.lane === lane));
  return [...came.slice(1).map((of) => ({ lane, to: named(of) })), { lane, to: undefined }];
}

function arrivalsIn(environment: string, facts: Facts): (NonNullable<Step['of']> & { readonly step: Step })[] {
  const count = facts.get('environment', environment)?.steps ?? 0;
  return Array.from({ length: count }, (_, at) => facts.get('step', stepKey(environment, count - at))).flatMap(
    (step) => (step?.of === undefined ? [] : [{ ...step.of, step }]),
  );
}

function named({ version, commit }: Pick<NonNullable<Step['of']>, 'version' | 'commit'>): Rollback['to'] {
  return version === undefined ? { commit } : { version };
}

/** Adds the first of some rollbacks after which the tags that lead elsewhere are as they should be. Answers whether there is one. */
async function firstThat(
  candidates: readonly Candidate[],
  environment: LostEnvironment,
  ledger: RebuiltLedger,
  remains: Remains,
  isMeant: (drifted: readonly string[], facts: Facts) => boolean,
): Promise<boolean> {
  for (const candidate of candidates) {
    const [action] = (await rollbackIn(candidate, environment, ledger, remains).catch(refusedOnly)) ?? [];
    const further = action && ledger.with(action, remains.now).facts;
    if (
      action !== undefined &&
      further !== undefined &&
      isMeant(driftIn(environment.name, further, remains), further)
    ) {
      ledger.add(action, remains.now);
      return true;
    }
  }
  return false;
}

/** What a rollback of an environment would say; nothing where it changes nothing. Throws where a rule refuses it. */
async function rollbackIn(
  candidate: Candidate,
  { name, before }: LostEnvironment,
  ledger: RebuiltLedger,
  { orders, arrivals }: Remains,
): Promise<Action[]> {
  const had = (arrivals.get(name) ?? []).flatMap(({ components }) => components);
  const places = new Map(had.map(({ component, repository }) => [component, repository]));
  const rollback = {
    ...candidate,
    environment: name,
    before,
    reason: 'found so when the ledger was made again',
    places,
  };
  const judge = ledger.judge([...places.values()], orders);
  const { value } = await judge.decide((known) => decideRollback(rollback, known));
  return rolledBackAction(rollback, value);
}

function refusedOnly(error: unknown): undefined {
  if (error instanceof HodError && error.fault === 'refused') {
    return undefined;
  }
  throw error;
}

/** The moving tags of an environment that lead elsewhere than the ledger says. */
function driftIn(environment: string, facts: Facts, { served }: Remains): string[] {
  const steps = facts.get('environment', environment)?.steps ?? 0;
  const tags = new Map<string, { repository: RepositoryName; tag: Tag }>();
  for (let step = 1; step <= steps; step += 1) {
    facts.get('step', stepKey(environment, step))?.tags.forEach(({ repository, tag }) => {
      tags.set(tagKey(repository, tag), { repository, tag });
    });
  }
  return [...tags].flatMap(([key, { repository, tag }]) => {
    const fact = facts.get('tag', key);
    const is = served(repository, tag);
    // A tag that is to go may stand at something that was not withdrawn, where the registry removes no tags.
    const isRight = fact?.gone === true ? is === undefined || !everUnder(fact).includes(is) : is === fact?.digest;
    return isRight ? [] : [key];
  });
}
