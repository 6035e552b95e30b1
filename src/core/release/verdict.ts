import type { CommitId } from '../commit';
import type { PlatformImage } from '../oci/content';
import type { RepositoryName } from '../oci/reference';
import { afterRewrite, type Ancestry } from '../tags/ordering';
import { wantedTags, type BuildValues, type RulesOf, type WantedTag, type WantedTags } from '../tags/rules';
import type { Arrival } from '../ledger/entries/arrival';
import { commitsToCompare, decideWay, type ComponentArrival, type Origin } from './component-arrival';
import { retiredBy, retirementNeeds, retiringWith } from './retirement';
import { servedIn, laneFacts } from '../ledger/environment';
import { isBranchLane } from '../ledger/lane';
import { rulesAside, type Despite } from './despite';
import { tagKey, withdrawalOf, withdrawnKey, type Facts, type Withdrawal } from '../ledger/facts';
import { metAmong, unmetAmong, type Gate } from './gates/gate';
import {
  judgedBy,
  judgedByNewest,
  rulesFacts,
  rulesNeeds,
  standingKnown,
  type CheckoutRules,
} from './gates/rules-in-force';
import { knownWayIn } from './gates/way-in';
import { fixedTags, inOrder } from './gates/tags';
import { factNeed, type Decision, type Judgement, type Knowledge, type Need } from './knowledge';
import {
  contentId,
  type ContentId,
  type ComponentDigest,
  type PlacedComponent,
  type ReleaseId,
  type SetTag,
} from '../ledger/release';
import {
  decideTags,
  provenanceWanted,
  heldBeside,
  isRecorded,
  tagsToSet,
  type TagDecision,
  type TagRequest,
} from './tag-decisions';

/** A component that is to come into an environment. */
export interface ArrivingComponent extends ComponentDigest {
  /** Where it is to stand. */
  readonly repository: RepositoryName;
  /** The image for each platform. */
  readonly images: readonly PlatformImage[];
}

/** What a release that comes into an environment means to do there, by what the ledger says at a moment. */
export interface Plan {
  readonly origin: Origin;
  readonly release: ReleaseId;
  /** The name of all that the release holds. */
  readonly content: ContentId;
  /** The tags of each component that comes in. */
  readonly tags: ReadonlyMap<string, WantedTags>;
  /** Every component that the product had when the release was built, and that comes in with it. */
  readonly lists: readonly string[];
  /** Of a build that is published: the branches that it is of. */
  readonly branches?: readonly string[];
  /** Why builds of its kind never take over; undefined where they may. */
  readonly notFollowed?: string | undefined;
  /** Its version is held because a newer build has the next one; the reason. */
  readonly heldVersion?: string | undefined;
}

/** A plan, and what becomes of it. */
export interface Verdict<P extends Plan> {
  readonly plan: P;
  readonly decisions: readonly TagDecision[];
  /** How each component comes in. */
  readonly arrivals: readonly ComponentArrival[];
  /** The components that retire with it. */
  readonly retires: readonly string[];
  /** The releases that serve what it takes over, or what retires. */
  readonly replaces: readonly ReleaseId[];
  /** The rules that it was judged by, as the ledger keeps them. */
  readonly judgedBy: Arrival['rules'];
  /** Every rule; each of them met, but where only a rehearsal was asked for. */
  readonly gates: readonly Gate[];
}

/** The environment that a release comes into, and how strict to be. */
export interface Destination {
  readonly environment: string;
  /** The environment that it comes from; null where it is published. */
  readonly from: string | null;
  readonly components: readonly ArrivingComponent[];
  /** Refuse where a moving tag, or a version, would be held by the order of builds. */
  readonly strictOrder: boolean;
  /** What was set aside on purpose, and why. */
  readonly despite: Despite;
  /** The rules of the checkout; undefined where nobody knows them any more. */
  readonly checkout: CheckoutRules | undefined;
}

/** The tags that an environment asks for, of each component that comes in. */
export function tagsWanted(
  components: readonly ArrivingComponent[],
  rulesOf: RulesOf,
  values: BuildValues,
): Plan['tags'] {
  return new Map(
    components.map((each) => [each.component, wantedTags(rulesOf(each.component), values, each.component, each)]),
  );
}

/** What a rule of a plan is told. */
export interface RuleContext {
  readonly facts: Facts;
  /** What the rule about fixed tags says. */
  readonly fixed: Gate;
  readonly arrivals: readonly ComponentArrival[];
  readonly retires: readonly string[];
  readonly decisions: readonly TagDecision[];
}

/**
 * Decides what becomes of a plan in an environment: how each component comes in, and what each tag points
 * to. Refused where one of the rules says no.
 */
export function judge<P extends Plan>(
  plan: P,
  destination: Destination,
  rules: (context: RuleContext) => readonly Gate[],
  known: Knowledge,
): Judgement<Verdict<P>> {
  const requests = requestTags(plan, destination, known);
  if (requests.kind !== 'decided') {
    return requests;
  }
  const { environment, components, strictOrder, despite, checkout } = destination;
  const { facts, ancestry } = known;
  const { decisions, arrivals, retires } = decideArrival(plan, destination, requests.value, known);
  const fixed = fixedTags(decisions);
  const repositoryOf = (name: string): RepositoryName | undefined =>
    components.find(({ component }) => component === name)?.repository;
  const wayIn = knownWayIn({ ...destination, repositoryOf }, facts, despite);
  // What brings nothing new asks no rule.
  const isNew = !isKnown(environment, { plan, decisions, arrivals, retires }, facts);
  const standing = checkout && standingKnown(known, environment);
  const rulesKnown = { facts, ancestry, despite, standing };
  const newest = isNew && checkout !== undefined ? judgedByNewest(environment, checkout, rulesKnown) : undefined;
  const gates = [
    ...(newest === undefined ? [] : [newest]),
    ...(wayIn.outcome === 'unmet' || despite.newWayIn ? [wayIn] : []),
    fixed,
    ...rules({ facts, fixed, arrivals, retires, decisions }),
    ...(strictOrder ? [inOrder(decisions, plan.heldVersion)] : []),
  ];
  const taking = [...arrivals.filter(({ way }) => way === 'takes-over').map(({ component }) => component), ...retires];
  const replaces = new Set(
    servedIn(facts, environment)
      .filter(({ component, release }) => taking.includes(component) && release !== plan.release)
      .map(({ release }) => release),
  );
  const isFollowed = plan.notFollowed === undefined;
  const value = {
    ...{ plan, decisions, arrivals, retires, gates, replaces: [...replaces] },
    judgedBy: checkout === undefined ? undefined : judgedBy(checkout, rulesKnown, { environment, isFollowed }),
  };
  return unmetAmong(gates).length > 0 ? { kind: 'refused', gates, value } : { kind: 'decided', value };
}

/** The tags that a plan asks for, with all that is known of what stands there, and of the order of commits. */
function requestTags(
  { tags, release, content, origin, lists, notFollowed }: Plan,
  { environment, components, checkout }: Destination,
  known: Knowledge,
): Decision<readonly TagRequest[]> {
  const wanted = components.flatMap((component) =>
    (tags.get(component.component)?.wanted ?? []).map((tag) => ({ component, tag })),
  );
  const first = known.missing([
    factNeed('release', release),
    factNeed('environment', environment),
    factNeed('withdrawn', withdrawnKey(environment, content)),
    ...rulesFacts(checkout, environment),
    ...laneFacts(environment, origin).map((fact): Need => ({ kind: 'fact', fact })),
    ...wanted.flatMap(({ component: { repository }, tag: { tag } }): Need[] => [
      factNeed('tag', tagKey(repository, tag)),
      { kind: 'served', repository, tag },
    ]),
  ]);
  if (first !== undefined) {
    return first;
  }
  const { facts } = known;
  const requests = wanted.map(({ component: { component, repository, digest }, tag }): TagRequest => {
    const leadsTo = tag.image?.digest ?? digest;
    return { component, repository, digest: leadsTo, wanted: tag, served: known.servedUnder(repository, tag.tag) };
  });
  const asked = new Map(provenanceWanted(requests, facts).map((request) => [request, provenanceNeed(request)]));
  const second = known.missing([...asked.values()]);
  if (second !== undefined) {
    return second;
  }
  const explained = requests.map((request) => {
    const need = asked.get(request);
    return need === undefined ? request : { ...request, provenance: known.provenanceOf(need) };
  });
  const others = [...otherCommits(explained, facts), ...commitsToCompare(environment, origin, facts)];
  const third = known.missing([
    ...others.map((other): Need => ({ kind: 'order', commit: origin.commit, other })),
    ...rulesNeeds(checkout, facts, { environment, isFollowed: notFollowed === undefined }),
    ...retirementNeeds(
      components.map(({ component }) => component),
      { environment, lists },
      facts,
    ),
  ]);
  return third ?? { kind: 'decided', value: explained };
}

/** Decides how each component comes in, and what each tag points to. */
function decideArrival(
  { origin, content, lists, notFollowed }: Plan,
  { environment, components, despite }: Destination,
  requests: readonly TagRequest[],
  known: Knowledge,
): Pick<Verdict<Plan>, 'decisions' | 'arrivals' | 'retires'> {
  const { facts } = known;
  const ancestry = orderFor(origin.commit, despite, known);
  const withdrawn = whyWithdrawn(withdrawalOf(facts, environment, content), environment, despite);
  const barriers = { withdrawn, notFollowed };
  const served = servedIn(facts, environment);
  const isFree = (name: string): boolean => !served.some(({ component }) => component === name);
  const tags = decideTags(requests, { position: origin, facts, ancestry }, { ...barriers, isFree });
  const isKnownTag = ({ repository, tag }: TagDecision): boolean =>
    facts.get('tag', tagKey(repository, tag)) !== undefined;
  const elsewhere = tags.find((tag) => tag.heldBy === 'order' && !isKnownTag(tag))?.reason;
  const coming = { environment, origin, lists };
  const arrivals = components.map(({ component }) => {
    const own = tags.filter((tag) => tag.component === component && tag.kind === 'moving');
    const movesTag = own.some(({ heldBy }) => heldBy === undefined);
    const retired = isFree(component) ? retiredBy(component, coming, facts, ancestry) : undefined;
    return decideWay({ component, environment, origin }, barriers, { facts, ancestry, elsewhere, movesTag, retired });
  });
  const takesOver = arrivals.some(({ way }) => way === 'takes-over');
  const retires = takesOver ? retiringWith(coming, facts, ancestry) : [];
  return { decisions: heldBeside(tags, requests, arrivals), arrivals, retires };
}

/** The order of commits as a release is judged by it. */
export function orderFor(commit: CommitId, despite: Despite, known: Knowledge): Ancestry {
  return despite.afterRewrite ? afterRewrite(known.ancestry, commit) : known.ancestry;
}

function whyWithdrawn(withdrawal: Withdrawal | undefined, environment: string, { again }: Despite): string | undefined {
  return withdrawal === undefined || again
    ? undefined
    : `${withdrawal.by} rolled ${environment} back from this release: "${withdrawal.reason}"`;
}

/** Returns a wanted tag of a component as the ledger keeps it. */
export function setTagOf({ tag, rule: { kind }, image }: WantedTag, placed: PlacedComponent): SetTag {
  const { component, repository, digest } = placed;
  return image === undefined
    ? { component, repository, tag, kind, digest }
    : { component, repository, tag, kind, digest: image.digest, platform: image.platform };
}

/** Returns a component with those of its images that rules give tags to: the ledger needs to know no others. */
export function withTaggedImages(placed: PlacedComponent, images: readonly PlatformImage[]): PlacedComponent {
  return images.length === 0 ? placed : { ...placed, images: [...images] };
}

/** What the ledger is told of a release that comes into an environment. */
export function arrivalOf(
  environment: string,
  { plan, decisions, arrivals, retires, replaces, judgedBy: rules, gates }: Verdict<Plan>,
  components: PlacedComponent[],
  despite: Despite,
): Arrival {
  const { origin, release, content } = plan;
  const aside = rulesAside(despite);
  return {
    release,
    ...origin,
    environment,
    components: components.map((placed) => withTaggedImages(placed, plan.tags.get(placed.component)?.images ?? [])),
    ...(contentId(components) === content ? {} : { content }),
    tags: tagsToSet(decisions),
    arrivals: arrivals.map(({ component, way, lanes }) => {
      const own = decisions.filter((each) => each.component === component);
      return { component, way, lanes: [...lanes], tagged: taggedLanes(lanes, own, plan) };
    }),
    ...(retires.length === 0 ? {} : { retires: [...retires] }),
    ...(replaces.length === 0 ? {} : { replaces: [...replaces] }),
    ...(rules === undefined ? {} : { rules }),
    gates: metAmong(gates),
    ...(aside.length === 0 ? {} : { despite: aside }),
  };
}

/** Those of the lanes that a release is the newest of that a moving tag follows; of branches, only followed ones. */
function taggedLanes(lanes: readonly string[], own: readonly TagDecision[], { tags, notFollowed }: Plan): string[] {
  const set = own.filter(({ kind, heldBy }) => kind === 'moving' && heldBy === undefined);
  const follows = new Set(
    set.map(({ component, tag }) => {
      const rule = tags.get(component)?.wanted.find((each) => each.tag === tag)?.rule;
      return rule?.kind === 'moving' ? rule.follows : undefined;
    }),
  );
  return lanes.filter((lane) =>
    isBranchLane(lane) ? notFollowed === undefined && follows.has('branch') : follows.has('release'),
  );
}

/** Whether the ledger says already what an entry about this would add. */
export function isKnown(
  environment: string,
  { plan, decisions, arrivals, retires }: Pick<Verdict<Plan>, 'plan' | 'decisions' | 'arrivals' | 'retires'>,
  facts: Facts,
): boolean {
  const release = facts.get('release', plan.release);
  const stays = release?.arrived.filter((stay) => stay.environment === environment) ?? [];
  const serves = servedIn(facts, environment);
  return (
    retires.length === 0 &&
    isRecorded(tagsToSet(decisions), facts) &&
    (plan.branches ?? []).every((branch) => release?.branches.includes(branch)) &&
    arrivals.every(({ component, way }) => {
      const stay = stays.find((each) => each.component === component);
      return way === 'takes-over'
        ? serves.some((each) => each.component === component && each.release === plan.release)
        : stay !== undefined && (way === 'held' || stay.way !== 'held');
    })
  );
}

function provenanceNeed({ repository, served, wanted: { rule } }: TagRequest): Extract<Need, { kind: 'provenance' }> {
  if (served === undefined) {
    throw new Error('what is not served tells nothing');
  }
  const withVersion = rule.kind === 'moving' && rule.follows !== 'branch';
  return { kind: 'provenance', repository, digest: served, withVersion };
}

/** The commits that moving tags lead to, by the ledger or by what is served. */
function otherCommits(requests: readonly TagRequest[], facts: Facts): CommitId[] {
  const moving = requests.filter(({ wanted }) => wanted.rule.kind === 'moving');
  const recorded = moving.map(({ repository, wanted }) => facts.get('tag', tagKey(repository, wanted.tag))?.commit);
  const elsewhere = moving.map(({ provenance }) => provenance?.commit);
  return [...recorded, ...elsewhere].filter((commit) => commit !== undefined);
}
