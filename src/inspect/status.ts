import { HodError } from '../core/errors';
import { formatRepository, parseRepository } from '../core/oci/reference';
import { servedIn } from '../core/ledger/environment';
import { driftOf, recordedTags, tellingTag, type Drift, type RecordedTag } from '../core/insight/drift';
import { tagFinding } from '../core/insight/proof';
import type { Digest } from '../core/oci/digest';
import type { TagDecision } from '../core/release/tag-decisions';
import { stepKey, tagKey, type FactKey, type Facts, type ServedComponent, type Step } from '../core/ledger/facts';
import type { PlacedComponent } from '../core/ledger/release';
import { together } from '../core/release/knowledge';
import { decideWaiting, type Waiting } from '../core/insight/waiting';
import { timestampOf } from '../core/time';
import { undelivered } from '../announcing/undelivered';
import { Judge } from '../delivery/judge';
import { commitOrders } from '../delivery/orders';
import { placesIn } from '../delivery/places';
import { readWatchedTags } from '../delivery/watched-tags';
import { readTaking } from '../delivery/sources/read-following';
import type { Ledger } from '../ledger/ledger';
import type { Patience } from '../http/wire';
import { ledgerLabel } from '../session/open-ledger';
import type { Session } from '../session/session';
import { environmentNamed, passageInto, type Config, type EnvironmentConfig } from '../workspace/config';
import type { Expiring } from '../core/insight/expiring';
import { admissionRulesIn, type ProductRules } from '../core/ledger/rules';
import { readCheckoutRules } from '../workspace/checkout-rules';
import { commitsBetween } from '../workspace/git';
import type { ComponentBase } from '../core/insight/moved-bases';
import { basesOf } from './bases';
import { readExpiring } from './expiring';
import { readServing, type Serving } from './lines';

/** Which environments a status is of, and what it asks for. */
export interface StatusQuestion {
  /** The environments to show; all where none is named. */
  readonly environments: readonly string[];
  /** Ask about every tag, and not only about the one of each component that tells the most. */
  readonly everyTag?: boolean | undefined;
  /** Ask no registry: show what the ledger says. */
  readonly ledgerOnly?: true | undefined;
  /** Ask what the images were built on. */
  readonly bases?: true | undefined;
}

/** A component that an environment serves, and whether its registry agrees. */
export interface ServedStatus {
  readonly served: ServedComponent;
  readonly drift: Drift;
}

/** What an environment serves of a component on a line, beside what it serves by its own tags. */
export interface LineStatus extends ServedStatus {
  readonly line: string;
}

/** What an environment serves, and what waits to come in. */
export interface EnvironmentStatus {
  readonly environment: string;
  /** The one that its releases come from; undefined for the first. */
  readonly after: string | undefined;
  /** Why its registry could not be asked; undefined where it answers. */
  readonly silent: string | undefined;
  readonly components: readonly ServedStatus[];
  /** The newest of its lines of versions and followed branches to which a moving tag leads, beside that. */
  readonly lines: readonly LineStatus[];
  /** `commits`: how many wait; undefined where git does not know. */
  readonly waiting: { readonly of: Waiting; readonly commits: number | undefined } | undefined;
}

/** What the environments of a product serve. */
export interface ProductStatus {
  readonly product: string;
  readonly ledger: { readonly place: string; readonly entries: number };
  readonly everyTag: boolean;
  readonly environments: readonly EnvironmentStatus[];
  /** What grows old of what environments ask for. */
  readonly expiring: readonly Expiring[];
  /** Undefined where it was not asked for. */
  readonly bases: readonly ComponentBase[] | undefined;
  readonly announcements: Awaited<ReturnType<typeof undelivered>>;
}

/** What a status is read from. */
interface StatusContext {
  readonly config: Config;
  readonly session: Session;
  readonly ledger: Ledger;
}

/** From so many components on, asking takes long enough for a notice. */
const toldFrom = 100;

/** A status waits for no registry for long: a component whose registry is silent is shown as unknown. */
export const brief: Patience = { connect: 3_000, idle: 10_000, whole: 10_000, retry: 100 };

/** Reads what environments serve by the ledger, which releases wait, and whether the registries still agree. */
export async function readStatus(
  options: StatusQuestion,
  { config, session, ledger }: StatusContext,
): Promise<ProductStatus> {
  const environments =
    options.environments.length === 0
      ? config.environments
      : options.environments.map((name) => environmentNamed(config, name));
  const { head, serving } = await readServing(
    environments.map(({ name }) => name),
    ledger,
  );
  const everyTag = options.everyTag === true;
  const rules = await rulesNow(config, session);
  const [looked, waiting, expiring] = await Promise.all([
    options.ledgerOnly === true
      ? serving.map(asUnasked)
      : askAboutAll(environments, serving, { everyTag }, { config, session, ledger }),
    waitingFor(environments, rules, config, ledger),
    readExpiring(rules, ledger),
  ]);
  const rows = environments.flatMap(({ name, after }, at) => {
    const found = looked[at];
    return found === undefined ? [] : [{ environment: name, after, ...found, waiting: waiting.get(name) }];
  });
  return {
    product: config.product,
    ledger: { place: ledgerLabel(config), entries: head.seq },
    everyTag,
    environments: rows,
    expiring: expiring.filter(({ environment }) => environment === undefined || waiting.has(environment)),
    bases: options.bases === true ? await basesOf(rows, config, session) : undefined,
    announcements: await undelivered(config, ledger),
  };
}

/** Reads what waits for environments, by ledger, git and clock; no registry is asked. */
export async function readWaiting(
  environments: readonly EnvironmentConfig[],
  { config, session, ledger }: StatusContext,
): Promise<ReadonlyMap<string, EnvironmentStatus['waiting']>> {
  return waitingFor(environments, await rulesNow(config, session), config, ledger);
}

/** The rules of the checkout. What environments serve is told also where a file of `trust:` cannot be used. */
async function rulesNow(config: Config, { observer }: Pick<Session, 'observer'>): Promise<ProductRules> {
  try {
    return (await readCheckoutRules(config, undefined)).rules;
  } catch (error) {
    if (!(error instanceof HodError) || error.code !== 'trust-unusable') {
      throw error;
    }
    observer.note(`${error.message}: rules that ask for signatures are shown as not met`);
    return (await readCheckoutRules({ ...config, trust: undefined }, undefined)).rules;
  }
}

/** What environments serve, compared with what their registries serve. */
async function askAboutAll(
  environments: readonly EnvironmentConfig[],
  serving: readonly Serving[],
  { everyTag }: { readonly everyTag: boolean },
  context: StatusContext,
): Promise<readonly Looked[]> {
  const { session, ledger } = context;
  const all = serving.flatMap(({ components, lines }) => [...components, ...lines.map(({ head }) => head)]);
  const tags = all.flatMap(({ repository, tags: own }) =>
    own.map((tag): FactKey => ({ kind: 'tag', key: tagKey(repository, tag) })),
  );
  const recorded = (await ledger.read(tags)).facts;
  if (all.length > toldFrom) {
    session.observer.note(
      `asking about ${all.length} components in ${environments.map(({ name }) => name).join(', ')}`,
    );
  }
  const question = { recorded, steps: new Steps(ledger), session };
  return Promise.all(
    environments.map(async (environment, at) => {
      const stray = everyTag ? await strayTags(environment, context) : undefined;
      return askAbout(environment, serving[at], { ...question, stray });
    }),
  );
}

/** What was found out about an environment. */
type Looked = Pick<EnvironmentStatus, 'components' | 'lines' | 'silent'>;

function asUnasked({ components, lines }: Serving): Looked {
  return {
    components: components.map((served) => ({ served, drift: notAsked })),
    lines: lines.map(({ line, head }) => ({ line, served: head, drift: notAsked })),
    silent: undefined,
  };
}

const notAsked: Drift = { state: 'unknown', detail: 'its registry was not asked' };

/** What asking registries needs. */
interface Question {
  readonly recorded: Facts;
  readonly steps: Steps;
  /** Every tag of the environment that stands elsewhere than the ledger says; undefined where not all were looked at. */
  readonly stray: readonly TagDecision[] | undefined;
  /** Whether a tag is told of elsewhere: with what is served on its line. */
  readonly isTold?: (stray: TagDecision) => boolean;
  readonly session: Session;
}

/** Looks at every tag that the ledger set in an environment. Where its registry does not answer, the components say so. */
async function strayTags(
  environment: EnvironmentConfig,
  { config, session, ledger }: StatusContext,
): Promise<readonly TagDecision[] | undefined> {
  try {
    const places = await placesIn(config, environment, { ledger, session });
    const context = { ledger, orders: commitOrders(config.folder) };
    const { stray, lost } = await readWatchedTags(environment.name, places, context);
    return [...stray, ...lost];
  } catch (error) {
    if (error instanceof HodError && error.fault !== 'corrupt') {
      return undefined;
    }
    throw error;
  }
}

/** The steps of environments, each read once, where one is asked for. */
class Steps {
  private readonly read = new Map<string, Promise<Step | undefined>>();

  constructor(private readonly ledger: Pick<Ledger, 'read'>) {}

  of(environment: string, step: number): Promise<Step | undefined> {
    const key = stepKey(environment, step);
    const found =
      this.read.get(key) ?? this.ledger.read([{ kind: 'step', key }]).then(({ facts }) => facts.get('step', key));
    this.read.set(key, found);
    return found;
  }
}

/** Asks the registry of an environment about one component, and about the others where it answers. */
async function askAbout(
  environment: EnvironmentConfig,
  serving: Serving | undefined,
  question: Question,
): Promise<Looked> {
  const [first, ...others] = serving?.components ?? [];
  const beside = serving?.lines ?? [];
  if (first === undefined) {
    return { components: [], lines: [], silent: undefined };
  }
  const onLines = new Set(
    beside.flatMap(({ head: { repository, tags } }) => tags.map((tag) => tagKey(repository, tag))),
  );
  const isOnLine = ({ repository, tag }: TagDecision): boolean => onLines.has(tagKey(repository, tag));
  const asking = { ...question, isTold: isOnLine };
  const drift = await driftIn(environment, first, asking);
  const { registry } = parseRepository(first.repository);
  // A registry that is silent is not asked again.
  const ask = async (served: ServedComponent, about: Question) =>
    drift.isSilent && parseRepository(served.repository).registry === registry
      ? { served, drift }
      : { served, drift: await driftIn(environment, served, about) };
  const [components, lines] = await Promise.all([
    Promise.all(others.map((served) => ask(served, asking))),
    Promise.all(
      beside.map(async ({ line, head }) => ({
        line,
        ...(await ask(head, { ...question, isTold: ({ tag }) => !head.tags.includes(tag) })),
      })),
    ),
  ]);
  return {
    components: [{ served: first, drift }, ...components],
    lines,
    silent: drift.isSilent ? drift.detail : undefined,
  };
}

/** How a registry stands to the ledger; `isSilent`: it does not answer at all. */
type Asked = Drift & { readonly isSilent: boolean };

async function driftIn(environment: EnvironmentConfig, served: ServedComponent, question: Question): Promise<Asked> {
  // A host that only the ledger names is not asked: a person who can write to the ledger must not choose the hosts that Hod asks.
  if (!isNamed(served, environment)) {
    const detail = `hod.yaml no longer names ${served.repository}; it was not asked`;
    return { state: 'unknown', detail, isSilent: false };
  }
  try {
    return { ...(await findDrift(environment.name, served, question)), isSilent: false };
  } catch (error) {
    if (error instanceof HodError) {
      return { state: 'unknown', detail: error.message, isSilent: error.fault === 'unavailable' };
    }
    throw error;
  }
}

/** Whether hod.yaml leads to the repository that the ledger names. */
export function isNamed(
  { component, repository }: Pick<PlacedComponent, 'component' | 'repository'>,
  environment: EnvironmentConfig,
): boolean {
  try {
    return formatRepository(environment.repositoryOf(component)) === repository;
  } catch (error) {
    if (error instanceof HodError) {
      return false;
    }
    throw error;
  }
}

/** Asks about the one tag of a component that tells the most, and about the others where that one drifted, or tells of every tag. */
async function findDrift(environment: string, served: ServedComponent, question: Question): Promise<Drift> {
  const { recorded, steps, stray, isTold = () => false, session } = question;
  const { manifests } = session.client(parseRepository(served.repository));
  const tags = recordedTags(served, (tag) => recorded.get('tag', tagKey(served.repository, tag)));
  const telling = stray === undefined ? tellingTag(served.digest, tags) : undefined;
  if (telling !== undefined && (await manifests.resolve(telling.tag)) === telling.recorded) {
    return { state: 'none', detail: '' };
  }
  const own = stray?.filter(
    ({ component, repository }) => component === served.component && repository === served.repository,
  );
  const servedUnder = async ({ tag, recorded: wanted }: RecordedTag): Promise<Digest | undefined> => {
    const found = own?.find((each) => each.tag === tag);
    return own === undefined ? manifests.resolve(tag) : found === undefined ? wanted : found.served;
  };
  const [content, ...found] = await Promise.all([manifests.resolve(served.digest), ...tags.map(servedUnder)]);
  const compared = tags.map((tag, at) => ({ ...tag, served: found[at] }));
  const hasDrifted = compared.some(({ recorded: wanted, served: is }) => wanted !== is);
  const step = hasDrifted ? await steps.of(environment, served.step) : undefined;
  const others = (own ?? []).filter((each) => !served.tags.includes(each.tag) && !isTold(each));
  return withOthers(driftOf(served, { content: content !== undefined, tags: compared }, step), others, environment);
}

/** A drift, with tags beside those of what is served: of other lines, of older releases, of what was rolled back. */
function withOthers(drift: Drift, others: readonly TagDecision[], environment: string): Drift {
  if (others.length === 0) {
    return drift;
  }
  const told = others.map((each) => `${each.tag}: ${tagFinding(environment, each).detail}`);
  return { state: 'drifted', detail: [...(drift.detail === '' ? [] : [drift.detail]), ...told].join('; ') };
}

/** The releases that wait for each environment but the first, by its name, as of one moment. */
async function waitingFor(
  environments: readonly EnvironmentConfig[],
  rules: ProductRules,
  config: Config,
  ledger: Ledger,
): Promise<Map<string, EnvironmentStatus['waiting']>> {
  const passages = environments.flatMap(({ name, after }) => (after === undefined ? [] : [passageInto(config, name)]));
  const ruled = await Promise.all(
    passages.map(async ({ from, to }) => ({
      from: from.name,
      to: to.name,
      taking: await readTaking(config, to),
      product: config.product,
      admissionRules: admissionRulesIn(rules, to.name),
      rules,
    })),
  );
  const judge = new Judge({ ledger, orders: commitOrders(config.folder) }, []);
  const now = timestampOf(new Date());
  const { value, facts } = await judge.decide((known) =>
    together(ruled.map((passage) => decideWaiting(passage, now, known))),
  );
  const told = ruled.map(async ({ from, to }, at): Promise<[string, EnvironmentStatus['waiting']]> => {
    const waiting = value[at];
    if (waiting === undefined) {
      return [to, undefined];
    }
    const newest = servedIn(facts, from).find(({ component }) => component === waiting.components[0]);
    const served = servedIn(facts, to).find(({ component }) => component === newest?.component);
    const between =
      newest === undefined || served === undefined
        ? undefined
        : await commitsBetween(config.folder, served.commit, newest.commit);
    const commits = between === undefined || 'gap' in between ? undefined : between.commits.length;
    return [to, { of: waiting, commits }];
  });
  return new Map(await Promise.all(told));
}
