import type { CommitId } from '../commit';
import type { Action } from '../ledger/entries';
import { lanesOf, laneHeadIn, servedIn } from '../ledger/environment';
import { laneKey, type Facts, type Release, type ServedComponent } from '../ledger/facts';
import { isBranchLane } from '../ledger/lane';
import { contentId, releaseId, type PlacedComponent, type ReleaseImage, type SetTag } from '../ledger/release';
import type { Way } from '../ledger/way';
import type { RepositoryName } from '../oci/reference';
import type { Tag } from '../oci/tag';
import { describePosition } from '../tags/ordering';
import type { Follows } from '../tags/rules';
import { compareVersions, type Version } from '../tags/version';
import type { Gate } from './gates/gate';
import { factNeed, type Decision, type Judgement, type Knowledge } from './knowledge';

/** Something that moving tags of an environment lead to, and the commit and version that it is of. */
export interface FoundContent {
  readonly placed: PlacedComponent;
  /** Every image that it holds. */
  readonly holds: readonly ReleaseImage[];
  readonly commit: CommitId;
  readonly version: Version | undefined;
  /** The followed branch whose tag leads to it. */
  readonly branch: string | undefined;
  /** The followed branches that contain its commit. */
  readonly branches: readonly string[];
  /** Whether it is what the environment serves of its component; otherwise it is the newest of a line or a branch. */
  readonly isServed: boolean;
  /** The tags of the environment's rules that lead to it. */
  readonly tags: readonly SetTag[];
  /** What the moving ones among them follow. */
  readonly follows: readonly Follows[];
}

/** An environment that was there before the ledger began. */
export interface FoundEnvironment<C extends FoundContent = FoundContent> {
  readonly environment: string;
  /** The environment that its releases come from; null where builds are published. */
  readonly from: string | null;
  readonly contents: readonly C[];
}

/** What is to be recorded. */
export interface Adoption {
  readonly product: string;
  readonly environments: readonly FoundEnvironment[];
  /** Every component of the product. */
  readonly lists: readonly string[];
  readonly reason: string;
  /** What was adopted before may be recorded anew. */
  readonly anew: boolean;
}

/** How one component was adopted. */
export interface AdoptedContent {
  readonly environment: string;
  readonly content: FoundContent;
  /** Undefined where it is left alone: something else is the newest of its line or branch. */
  readonly way: Exclude<Way, 'held'> | undefined;
  readonly lanes: readonly string[];
  /** The ledger said so before. */
  readonly isKnown: boolean;
}

/** What an adoption comes to. */
export interface AdoptionVerdict {
  readonly contents: readonly AdoptedContent[];
  readonly actions: readonly Action[];
  /** Components whose digest differs between environments under one version. */
  readonly contradictions: readonly Contradiction[];
}

/** One version that is two different contents. */
export interface Contradiction {
  readonly component: string;
  readonly version: Version;
  readonly places: readonly { readonly repository: RepositoryName; readonly digest: string }[];
}

/** Decides what is recorded of environments that were there before the ledger began. Refused where the ledger knows what one serves. */
export function decideAdoption(adoption: Adoption, known: Knowledge): Judgement<AdoptionVerdict> {
  const { environments } = adoption;
  const contents = environments.flatMap((each) => each.contents);
  const unknown = known.missing([
    ...environments.map(({ environment }) => factNeed('environment', environment)),
    ...environments.flatMap(({ environment, contents: own }) =>
      own.flatMap((each) => lanesOf(each).map((lane) => factNeed('lane', laneKey(environment, lane)))),
    ),
    ...contents.flatMap(({ version, commit }) => [
      ...(version === undefined ? [] : [factNeed('version', version)]),
      factNeed('commit', commit),
    ]),
  ]);
  if (unknown !== undefined) {
    return unknown;
  }
  const earlier = contents.flatMap((each) => namedBefore(each, known.facts) ?? []);
  const missing: Decision<never> | undefined = known.missing(earlier.map((id) => factNeed('release', id)));
  if (missing !== undefined) {
    return missing;
  }
  const gates = environments.map((each) => isFree(each, adoption, known.facts));
  if (gates.some(({ outcome }) => outcome === 'unmet')) {
    return { kind: 'refused', gates };
  }
  const adopted = environments.flatMap((each) => waysIn(each, known.facts));
  const actions = actionsOf(adopted, adoption, known.facts);
  return { kind: 'decided', value: { contents: adopted, actions, contradictions: contradictionsIn(contents) } };
}

function namedBefore({ version, commit }: FoundContent, facts: Facts) {
  return (version === undefined ? facts.get('commit', commit) : facts.get('version', version))?.release;
}

/** Whether something was published, promoted or rolled back in an environment: its tags are no longer what says what it serves. */
export function isInUse(environment: string, facts: Facts): boolean {
  const known = facts.get('environment', environment);
  return known !== undefined && known.steps > 0 && known.adopting !== true;
}

/** Whether the ledger leaves it to an environment to say what it serves. */
function isFree({ environment, contents }: FoundEnvironment, { anew }: Adoption, facts: Facts): Gate {
  const gate = 'adoptable';
  const serves = servedIn(facts, environment);
  const unmet = { gate, outcome: 'unmet' as const, code: 'served-already' as const, object: environment };
  if (isInUse(environment, facts)) {
    const names = [...new Set(serves.map(describePosition))].join(', ');
    return {
      ...unmet,
      what: `the ledger already records what ${environment} serves`,
      detail:
        names === ''
          ? `${environment} was in use, and serves nothing now`
          : `${environment} serves ${names}, by the ledger`,
      remedy: `bring releases in with \`hod publish\` or \`hod promote ${environment}\`; \`hod restore ${environment}\` puts tags right that were moved by hand`,
    };
  }
  const others = contents.filter(({ isServed, placed, ...now }) => {
    const before = isServed ? serves.find(({ component }) => component === placed.component) : undefined;
    return before !== undefined && !isSame(before, { placed, ...now });
  });
  if (others.length > 0 && !anew) {
    return {
      ...unmet,
      what: `something else was adopted in ${environment}`,
      object: others.map(({ placed }) => `${placed.component} in ${environment}`),
      detail: others.map((each) => {
        const before = serves.find(({ component }) => component === each.placed.component);
        return `adopted as ${before === undefined ? '' : describePosition(before)}; now its tags lead to ${describePosition(each)}`;
      }),
      remedy: `\`hod restore ${environment}\` puts the tags back; --anew --reason "…" records what they lead to now`,
    };
  }
  return { gate, outcome: 'met', detail: `nothing was published or promoted into ${environment} so far` };
}

function isSame(
  before: ServedComponent,
  { placed, commit, version }: Pick<FoundContent, 'placed' | 'commit' | 'version'>,
): boolean {
  const { digest, repository } = placed;
  return (
    before.digest === digest &&
    before.repository === repository &&
    before.commit === commit &&
    before.version === version
  );
}

/** Decides how each content of an environment comes in: what is served takes over, the newest of each other lane comes beside. */
function waysIn({ environment, contents }: FoundEnvironment, facts: Facts): AdoptedContent[] {
  return contents.map((content) => {
    const { component } = content.placed;
    const own = contents.filter(({ placed }) => placed.component === component);
    const lanes = lanesOf(content).filter((lane) => newestIn(lane, own) === content);
    const heads = lanes.map((lane) => laneHeadIn(facts, environment, lane, component));
    const served = servedIn(facts, environment).find((each) => each.component === component);
    const there = content.isServed ? [served] : heads;
    return {
      environment,
      content,
      way: content.isServed ? 'takes-over' : lanes.length > 0 ? 'beside' : undefined,
      lanes,
      isKnown: there.length > 0 && there.every((each) => each !== undefined && isSame(each, content)),
    };
  });
}

/** Returns what is the newest in a lane: the highest version of a line; of a branch, what its one tag leads to. */
function newestIn(lane: string, contents: readonly FoundContent[]): FoundContent | undefined {
  const own = contents.filter((each) => lanesOf(each).includes(lane));
  return own.reduce<FoundContent | undefined>((newest, each) => {
    const isNewer =
      newest?.version === undefined ||
      (each.version !== undefined && compareVersions(each.version, newest.version) > 0);
    return isNewer ? each : newest;
  }, undefined);
}

/** One release, and everything of it that was found, in whichever environment. */
interface FoundRelease {
  readonly name: string;
  readonly contents: AdoptedContent[];
}

/** Puts together what was found of each release: one commit under one version, and one digest of each component. */
function releasesIn(adopted: readonly AdoptedContent[]): FoundRelease[] {
  const releases: FoundRelease[] = [];
  for (const each of adopted) {
    const { placed, version, commit } = each.content;
    const name = `${version ?? ''} ${commit}`;
    const fits = releases.find(
      (release) =>
        release.name === name &&
        release.contents.every(
          ({ content }) => content.placed.component !== placed.component || content.placed.digest === placed.digest,
        ),
    );
    if (fits === undefined) {
      releases.push({ name, contents: [each] });
    } else {
      fits.contents.push(each);
    }
  }
  return releases;
}

function actionsOf(adopted: readonly AdoptedContent[], adoption: Adoption, facts: Facts): Action[] {
  const coming = adopted.filter(({ way }) => way !== undefined);
  const releases = releasesIn(coming);
  return adoption.environments.flatMap(({ environment, from }) => {
    const actions = releases.flatMap((release) => actionOf(release, { environment, from }, adoption, facts) ?? []);
    return actions.map((action, at) => (at === 0 ? action : { ...action, together: true }));
  });
}

/** What is recorded of a release in an environment; undefined where that is nothing new. */
function actionOf(
  { contents }: FoundRelease,
  { environment, from }: Pick<FoundEnvironment, 'environment' | 'from'>,
  { product, lists, reason }: Adoption,
  facts: Facts,
): Extract<Action, { kind: 'adopted' }> | undefined {
  const own = contents.filter((each) => each.environment === environment);
  const [first] = contents;
  if (first === undefined || own.every(({ isKnown }) => isKnown)) {
    return undefined;
  }
  const { commit, version } = first.content;
  const holds = [...new Map(contents.map(({ content }) => [content.placed.component, content.placed])).values()];
  const earlier = releaseWith(holds, first.content, facts);
  const all: readonly PlacedComponent[] = earlier?.components ?? holds;
  const release = earlier?.release ?? releaseId({ product, commit, version, components: all });
  const takes = own.filter(({ way }) => way === 'takes-over').map(({ content }) => content.placed.component);
  const replaces = servedIn(facts, environment)
    .filter((each) => takes.includes(each.component) && each.release !== release)
    .map((each) => each.release);
  const components = own.map(({ content }) => content.placed);
  const images = [...new Map(contents.map(({ content }) => [content.placed.component, content.holds])).values()].flat();
  const branch = contents.map(({ content }) => content.branch).find((each) => each !== undefined);
  return {
    kind: 'adopted',
    ...{ release, commit, version, branch: earlier === undefined ? branch : earlier.branch },
    ...{ environment, from, reason, components },
    branches: [...new Set(contents.flatMap(({ content }) => content.branches))],
    ...(components.length === all.length ? {} : { content: contentId(all), holds: [...all] }),
    ...(images.length === 0 ? {} : { images }),
    ...(lists.every((name) => all.some(({ component }) => component === name)) ? {} : { lists: [...lists] }),
    tags: own.flatMap(({ content }) => content.tags),
    arrivals: own.flatMap(({ content, way, lanes }) =>
      way === undefined
        ? []
        : [{ component: content.placed.component, way, lanes: [...lanes], tagged: taggedLanes(lanes, content) }],
    ),
    ...(replaces.length === 0 ? {} : { replaces: [...new Set(replaces)] }),
  };
}

function taggedLanes(lanes: readonly string[], { follows }: FoundContent): string[] {
  return lanes.filter((lane) => follows.includes(isBranchLane(lane) ? 'branch' : 'release'));
}

/** Returns the release that the ledger knows by this version or commit, where it holds the same. */
function releaseWith(holds: readonly PlacedComponent[], content: FoundContent, facts: Facts): Release | undefined {
  const id = namedBefore(content, facts);
  const release = id === undefined ? undefined : facts.get('release', id);
  const isSame =
    release?.commit === content.commit &&
    release.version === content.version &&
    holds.every(({ component, digest }) =>
      release.components.some((each) => each.component === component && each.digest === digest),
    );
  return isSame ? release : undefined;
}

function contradictionsIn(contents: readonly FoundContent[]): Contradiction[] {
  const byName = new Map<string, FoundContent[]>();
  for (const each of contents) {
    if (each.version !== undefined) {
      const key = `${each.placed.component} ${each.version}`;
      byName.set(key, [...(byName.get(key) ?? []), each]);
    }
  }
  return [...byName.values()].flatMap((same) => {
    const [first] = same;
    const digests = new Map(same.map(({ placed }) => [placed.digest, placed]));
    return first?.version === undefined || digests.size < 2
      ? []
      : [
          {
            component: first.placed.component,
            version: first.version,
            places: [...digests.values()].map(({ repository, digest }) => ({ repository, digest })),
          },
        ];
  });
}

/** A commit that something says it is of, or that its version stands for in git. */
export interface CommitClaim {
  readonly version: Version | undefined;
  readonly commit: CommitId | undefined;
}

/**
 * Finds the commit of each version, so that all components of a version are of one commit: that of its git tag, else the one that
 * most of them name.
 *
 * @param tagged The commits of git tags.
 */
export function commitsOfVersions(
  claims: readonly CommitClaim[],
  tagged: ReadonlyMap<Version, CommitId>,
): Map<Version, CommitId> {
  const counts = new Map<Version, Map<CommitId, number>>();
  for (const { version, commit } of claims) {
    if (version !== undefined && commit !== undefined) {
      const own = counts.get(version) ?? new Map<CommitId, number>();
      counts.set(version, own.set(commit, (own.get(commit) ?? 0) + 1));
    }
  }
  const named = new Set(claims.flatMap(({ version }) => version ?? []));
  return new Map(
    [...named].flatMap((version): [Version, CommitId][] => {
      const [most] = [...(counts.get(version) ?? [])].sort(([a, one], [b, other]) => other - one || (a < b ? -1 : 1));
      const commit = tagged.get(version) ?? most?.[0];
      return commit === undefined ? [] : [[version, commit]];
    }),
  );
}

/** A tag that is not adopted, and why. */
export interface LeftTag {
  readonly repository: RepositoryName;
  readonly tag: Tag;
  readonly why: string;
}
