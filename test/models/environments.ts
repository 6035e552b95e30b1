import type { Way } from '../../src/core/ledger/way';
import { deepStrictEqual as same, ok } from 'node:assert';
import fc from 'fast-check';
import { commitSchema, type CommitId } from '../../src/core/commit';
import { HodError, type ErrorCode } from '../../src/core/errors';
import type { Digest } from '../../src/core/oci/digest';
import { Knowledge } from '../../src/core/release/knowledge';
import { laneHeadIn } from '../../src/core/ledger/environment';
import { decideWaiting } from '../../src/core/insight/waiting';
import { timestampOf } from '../../src/core/time';
import { noAdmissionRules } from '../../src/core/ledger/rules';
import { compareVersions, parseVersion, type Version } from '../../src/core/tags/version';
import { inSpiteOfNothing } from '../../src/core/release/despite';
import {
  commitId,
  DeliveryWorld,
  includedComponent,
  isFixed,
  Killed,
  never,
  nodeOf,
  imageIn,
  tagRules,
  taking,
  type Commit,
} from './delivery-world';
import { modelOf, type Model } from './model';

const built = ['timetable', 'tide-watch'] as const;
export const components = [...built, includedComponent] as const;
/** From a moment on releases come into prod through staging. */
const environments = ['dev', 'uat', 'staging', 'prod'] as const;
type Environment = (typeof environments)[number];
export const steps = { uat: ['dev', 'uat'], staging: ['uat', 'staging'], prod: ['uat', 'prod'] } as const;

/** A release as the model knows it. */
interface Release {
  readonly name: string;
  readonly commit: Commit;
  readonly version: Version | undefined;
  readonly components: readonly string[];
}

/** What a release did to an image in an environment: the tags that lead to it since, and whether it is served. */
interface Stay {
  /** One decision is one step, of one entry or several. */
  readonly step: number;
  readonly entry: number;
  readonly release: Release;
  readonly component: string;
  readonly takes: boolean;
  readonly tags: readonly string[];
  /** Its lane was rolled back from it: it heads and tags nothing, and what was served with it does not come back. */
  left: boolean;
  /** The component went with this release: the product had it no more. */
  retires: boolean;
}

/** Lanes that are rolled back alone. */
const lanes = ['line 1.0', 'line 1.1', 'line 1.2', 'branch main', 'branch support-1.1', 'branch work'] as const;

/**
 * The model: what an environment is, in as few words as there can be. Stays are in the order in which
 * they came; what was withdrawn is taken out. Whatever is asked for is the newest stay that has it.
 */
class EnvironmentModel {
  stays: Stay[] = [];
  readonly withdrawn = new Set<string>();
  /** How whatever was ever there came, taken back or not, by `release image`. */
  readonly ever = new Map<string, Way>();

  /** What was served before the decision that is being read, which may be of several entries. */
  private servedBefore: Release[] = [];

  constructor(readonly environment: Environment) {}

  serves(component: string): Release | undefined {
    const stay = this.stays.filter((each) => each.component === component && each.takes).at(-1);
    return this.hasRetired(component) ? undefined : stay?.release;
  }

  /** Whether a component went with a release, and nothing of it came since. */
  hasRetired(component: string): boolean {
    return this.stays.filter((each) => each.component === component && each.takes).at(-1)?.retires === true;
  }

  /** Whether something newer is served, whose product had a component no more. */
  private wentWith(component: string, release: Release): boolean {
    return this.servedBefore.some((served) => {
      return !lists(served, component) && isNewer(served, release);
    });
  }

  tag(tag: string, component: string): Release | undefined {
    return this.stays.filter((stay) => !stay.left && stay.component === component && stay.tags.includes(tag)).at(-1)
      ?.release;
  }

  /** A release comes: each image takes over, comes beside, or is held. */
  come(
    release: Release,
    of: readonly string[],
    { step, entry, retires }: { step: number; entry: number; retires: readonly string[] },
  ): string[] {
    if (step !== this.stays.at(-1)?.step) {
      this.servedBefore = components.flatMap((component) => this.serves(component) ?? []);
    }
    const { commit, version } = release;
    const out = this.withdrawn.has(contentOf(release));
    const follows = this.environment !== 'dev' || isFollowed(commit);
    const stays = of.map((component) => {
      const served = this.serves(component);
      const isFree = served === undefined && !this.wentWith(component, release);
      const takes = !out && follows && (isFree || (served !== undefined && isAfter(release, served)));
      const line = version === undefined ? undefined : lineOf(version);
      const branch = `branch ${commit.branch}`;
      const newest = (lane: string): boolean => {
        const head = this.tag(lane, component);
        return head === undefined || (lane === branch ? contains(head, release) : isAfter(release, head));
      };
      const lanes = [...(line === undefined ? [] : [`line ${line}`]), branch];
      const way: Way = takes ? 'takes-over' : !out && newest(lanes[0] ?? '') ? 'beside' : 'held';
      const higher = (tag: string): boolean => {
        const there = this.tag(tag, component)?.version;
        return version !== undefined && (there === undefined || compareVersions(version, there) >= 0);
      };
      const moving = [
        ...(this.environment === 'dev' && !out && newest(branch) ? [commit.branch] : []),
        ...(line !== undefined && ['dev', 'prod'].includes(this.environment)
          ? [line, 'latest'].filter((tag) => !out && follows && higher(tag))
          : []),
        ...(['uat', 'staging'].includes(this.environment) && takes ? [this.environment] : []),
      ];
      const tags = [...(out ? [] : lanes.filter(newest)), ...(component === includedComponent ? [] : moving)];
      return { step, entry, release, component, takes, tags, way, left: false, retires: false };
    });
    const gone = stays.some(({ takes }) => takes)
      ? components.filter((component) => {
          const served = this.serves(component);
          return served !== undefined && !lists(release, component) && isNewer(release, served);
        })
      : [];
    // A promotion may bring a component in beside that the release has no more: then it does not retire.
    same(
      [...retires].sort(),
      gone.filter((component) => this.environment === 'dev' || retires.includes(component)).sort(),
    );
    this.stays.push(...stays);
    this.stays.push(
      ...retires.map((component) => ({
        step,
        entry,
        release,
        component,
        takes: true,
        tags: [],
        left: false,
        retires: true,
      })),
    );
    for (const { component, way } of stays.filter((stay) => stay.way !== 'held')) {
      const key = `${release.name} ${component}`;
      this.ever.set(key, this.ever.get(key) === 'takes-over' ? 'takes-over' : way);
    }
    if (stays.some(({ takes }) => takes)) {
      this.withdrawn.delete(contentOf(release));
    }
    return stays.map(({ component, way }) => `${component} ${way}`);
  }

  /** The releases that the environment before has taken over since something of it was here. */
  waiting(before: EnvironmentModel): Set<string> {
    const waiting = new Set<string>();
    for (const component of components) {
      const [here, there] = [this, before].map((model) => model.serves(component)?.commit.content[component]);
      const all = before.stays
        .filter((stay) => stay.component === component && stay.takes && there !== undefined && here !== there)
        .reverse();
      const retired = all.findIndex(({ retires }) => retires);
      const taken = all.slice(0, retired === -1 ? undefined : retired);
      const known = taken.findIndex(({ release }) => this.knows(release, component));
      taken
        .slice(0, known === -1 ? undefined : known)
        // What its line was rolled back from waits again once it came back.
        .filter(({ release }) =>
          before.stays.some((stay) => !stay.left && stay.component === component && stay.release === release),
        )
        .forEach(({ release }) => waiting.add(release.name));
    }
    return waiting;
  }

  /** Whether a release came in, and nothing is to be done with it. One that stands beside something older is to take over. */
  private knows(release: Release, component: string): boolean {
    const way = this.ever.get(`${release.name} ${component}`);
    const served = this.serves(component)?.version;
    const isBehind =
      way === 'beside' &&
      release.version !== undefined &&
      served !== undefined &&
      compareVersions(release.version, served) > 0;
    return way !== undefined && !isBehind;
  }

  /** Goes back to what was served before something else was: what took over since is withdrawn. */
  back(): boolean {
    const taken = [...new Set(this.stays.filter(({ takes }) => takes).map(({ step }) => step))].reverse();
    const now = this.digests();
    const before = taken
      .slice(1)
      .map((step) => ({ step, then: this.without(taken.filter((each) => each > step)) }))
      .find(({ then }) => then.digests() !== now && !then.servesWhatWasLeft())?.step;
    if (before === undefined) {
      return false;
    }
    const left = taken.filter((step) => step > before);
    // What came beside in the same decision was never served: it stays.
    const entries = this.stays.filter(({ step, takes }) => takes && left.includes(step)).map(({ entry }) => entry);
    const gone = this.stays.filter(({ entry }) => entries.includes(entry));
    this.stays = this.stays.filter((stay) => !gone.includes(stay));
    const kept = components.flatMap((component) => this.serves(component) ?? []).map(contentOf);
    gone
      .map(({ release }) => contentOf(release))
      .filter((each) => !kept.includes(each))
      .forEach((each) => this.withdrawn.add(each));
    return true;
  }

  /** Rolls one lane back to what headed it before something else did: what came since is withdrawn. */
  backOn(lane: string): boolean {
    const own = this.stays.filter(({ left, tags }) => !left && tags.includes(lane));
    const taken = [...new Set(own.map(({ step }) => step))].reverse();
    const without = (steps: readonly number[]): string =>
      components
        .map((component) => {
          const stay = own.filter((each) => each.component === component && !steps.includes(each.step)).at(-1);
          return stay?.release.commit.content[component] ?? '';
        })
        .join();
    const before = taken.slice(1).find((step) => without(taken.filter((each) => each > step)) !== without([]));
    const steps = taken.filter((step) => before === undefined || step > before);
    const gone = new Set(own.filter(({ step }) => steps.includes(step)).map(({ release }) => release.name));
    const serves = components.flatMap((component) => this.serves(component) ?? []);
    if (gone.size === 0 || serves.some(({ name }) => gone.has(name))) {
      return false;
    }
    const leaving = this.stays.filter(({ release }) => gone.has(release.name));
    leaving.forEach((stay) => {
      stay.left = true;
    });
    const kept = [...serves, ...components.flatMap((component) => this.tag(lane, component) ?? [])].map(contentOf);
    leaving
      .map(({ release }) => contentOf(release))
      .filter((each) => !kept.includes(each))
      .forEach((each) => this.withdrawn.add(each));
    return true;
  }

  private servesWhatWasLeft(): boolean {
    return components.some((component) => {
      const stay = this.stays.filter((each) => each.component === component && each.takes).at(-1);
      return stay?.left === true && !stay.retires;
    });
  }

  private without(left: readonly number[]): EnvironmentModel {
    const model = new EnvironmentModel(this.environment);
    model.stays = this.stays.filter(({ step }) => !left.includes(step));
    return model;
  }

  private digests(): string {
    return components.map((component) => this.serves(component)?.commit.content[component] ?? '').join();
  }
}

const contentOf = ({ commit, components: own }: Release): string =>
  own
    .map((component) => `${component} ${commit.content[component] ?? ''}`)
    .sort()
    .join();
const lineOf = (version: Version): string => version.split('.').slice(0, 2).join('.');
const lists = ({ commit }: Release, component: string): boolean => commit.content[component] !== undefined;
const isNewer = (one: Release, other: Release): boolean => isAfter(one, other) && !isAfter(other, one);
const isFollowed = ({ branch, pullRequest }: Commit): boolean =>
  pullRequest !== true && /^(main|support-.*)$/.test(branch);
const contains = (older: Release, newer: Release): boolean =>
  older.commit.id === newer.commit.id || newer.commit.ancestors.has(older.commit.id);
const isAfter = (release: Release, other: Release): boolean => {
  if (release.version !== undefined && other.version !== undefined) {
    return compareVersions(release.version, other.version) >= 0;
  }
  return release.commit.id === other.commit.id ? other.version === undefined : contains(other, release);
};

/** Reads a ledger as the model would: what each entry says that it did must be what the model says. */
class Replay {
  readonly models = {
    dev: new EnvironmentModel('dev'),
    uat: new EnvironmentModel('uat'),
    staging: new EnvironmentModel('staging'),
    prod: new EnvironmentModel('prod'),
  };
  private readonly releases = new Map<string, Release>();
  private step = 0;
  private read = 0;

  constructor(
    private readonly world: DeliveryWorld,
    private readonly commits: readonly Commit[],
  ) {}

  /** Goes on from where it was. */
  advance(): void {
    for (const { entry } of this.world.entries.slice(this.read)) {
      const { action } = entry;
      if (action.kind === 'published' || action.kind === 'promoted') {
        this.step += action.together === true ? 0 : 1;
        const commit = this.commits.find(({ id }) => id === action.commit);
        if (commit === undefined) {
          throw new Error(`nobody committed ${action.commit}`);
        }
        const of = action.components.map(({ component }) => component);
        const release = this.releases.get(action.release) ?? {
          name: action.release,
          commit,
          version: action.version,
          components: of,
        };
        this.releases.set(action.release, release);
        const expected = this.modelOf(action.environment).come(release, of, {
          step: this.step,
          entry: entry.seq,
          retires: action.retires ?? [],
        });
        same(
          action.arrivals.map(({ component, way }) => `${component} ${way}`),
          expected,
          `entry ${entry.seq}`,
        );
        if (action.kind === 'promoted') {
          same(
            expected.filter((each) => each.endsWith('held')),
            [],
          );
        }
        // What a branch that is not followed asks for comes to nothing: no version, and no way into another environment.
        ok(isFollowed(commit) || (action.kind === 'published' && action.version === undefined), `entry ${entry.seq}`);
        // A rollback that is finished later changes nothing that is served.
      } else if (action.kind === 'rolled-back' && action.left !== undefined) {
        ok(
          action.left.releases.length === 0 || this.modelOf(action.environment).backOn(action.left.lane),
          `entry ${entry.seq}`,
        );
      } else if (action.kind === 'rolled-back' && action.served.length > 0) {
        ok(this.modelOf(action.environment).back(), `entry ${entry.seq}`);
      }
    }
    this.read = this.world.entries.length;
  }

  private modelOf(name: string): EnvironmentModel {
    return this.models[environments.find((each) => each === name) ?? 'dev'];
  }
}

/** What waits for an environment, by the ledger. */
export function waitingIn(world: DeliveryWorld, [from, to]: readonly [Environment, Environment]) {
  const known = new Knowledge();
  known.facts = world.facts;
  const now = timestampOf(new Date(0));
  const decision = decideWaiting(
    {
      product: 'p',
      rules: { environments: [] },
      from,
      to,
      taking,
      admissionRules: worldEnvironments[to].admissionRules,
    },
    now,
    known,
  );
  if (decision.kind !== 'decided') {
    throw new Error('all facts are there');
  }
  return decision.value;
}

/** What everything is like: what the ledger says is served, and where every moving tag is in the registries. */
function expectAsModelled(world: DeliveryWorld, replay: Replay, isInserted: boolean): void {
  replay.advance();
  const { models } = replay;
  for (const passage of [steps.uat, stepInto('staging', isInserted), stepInto('prod', isInserted)]) {
    const expected = models[passage[1]].waiting(models[passage[0]]);
    const { releases } = waitingIn(world, passage);
    same([passage, new Set(releases.map(({ release }) => release))], [passage, expected]);
  }
  for (const environment of environments) {
    const served = world.facts.get('environment', environment)?.components ?? [];
    for (const component of components) {
      const model = models[environment];
      const digest = (release: Release | undefined): Digest | undefined =>
        release && world.digestOf(release.commit, component);
      same(
        [environment, component, served.find((each) => each.component === component)?.release],
        [environment, component, model.serves(component)?.name],
      );
      for (const lane of lanes) {
        const head = laneHeadIn(world.facts, environment, lane, component);
        same(
          [environment, lane, component, head?.release],
          [environment, lane, component, model.tag(lane, component)?.name],
        );
      }
      if (model.hasRetired(component)) {
        // Its tags stay where they are, and nobody looks after them.
        continue;
      }
      const tagged = model.stays.flatMap(({ tags }) => tags).filter((tag) => !tag.includes(' '));
      const named = [...new Set(tagged)];
      const expected = named
        .map((tag) => [tag, digest(model.tag(tag, component))])
        .filter(([, target]) => target !== undefined);
      // Where nothing is served of it, there is nothing that a tag which cannot be removed could point to: that is said.
      const mayStay = !world.removesTags && model.serves(component) === undefined;
      const good = new Set(
        model.stays.filter((stay) => !stay.left && stay.component === component).map(({ release }) => digest(release)),
      );
      const all = [...world.tagsOf(environment, component)];
      expectPlatformTags(environment, component, {
        all,
        good: new Set([...good].flatMap((each) => (each === undefined ? [] : [imageIn(each)]))),
        mayStay,
        wanted: new Map(named.map((tag) => [tag, digest(model.tag(tag, component))])),
      });
      const moving = all.filter(
        ([tag, target]) =>
          !isFixed(tag) &&
          !tag.endsWith(platformSuffix) &&
          // A tag that is to go may stand where it could not be removed: at what was not withdrawn.
          (expected.some(([name]) => name === tag) || (!good.has(target) && !mayStay)),
      );
      same(
        [environment, component, Object.fromEntries(moving)],
        [environment, component, Object.fromEntries(expected)],
      );
    }
  }
}

const platformSuffix = '-linux-amd64';

/**
 * Each tag of a platform is there where its namesake is, and stands at the image of whatever that is to stand at. One that is to go
 * may stand at the image of something that was not withdrawn, too.
 */
function expectPlatformTags(
  environment: Environment,
  component: string,
  {
    all,
    good,
    mayStay,
    wanted,
  }: {
    all: readonly (readonly [string, Digest])[];
    good: ReadonlySet<Digest>;
    mayStay: boolean;
    wanted: ReadonlyMap<string, Digest | undefined>;
  },
): void {
  const tags = new Map(all);
  const isOfPlatform = ([tag]: readonly [string, Digest]): boolean => tag.endsWith(platformSuffix);
  const expected = new Map<string, Digest | undefined>([
    ...all.filter(isOfPlatform).map(([tag]) => [tag.slice(0, -platformSuffix.length), undefined] as const),
    ...all.filter((each) => isFixed(each[0]) && !isOfPlatform(each)),
    ...wanted,
  ]);
  for (const [name, target] of expected) {
    if (hasPlatformTag(environment, component, name)) {
      const tag = `${name}${platformSuffix}`;
      const there = tags.get(tag);
      const isGone = target === undefined && (there === undefined || mayStay || good.has(there));
      same(
        [environment, component, tag, isGone ? undefined : there],
        [environment, component, tag, target && imageIn(target)],
      );
    }
  }
}

/** Whether rules ask for the tag of a platform beside a tag. Branches have none. */
function hasPlatformTag(environment: Environment, component: string, tag: string): boolean {
  const version = /^\d+\.\d+(\.\d+)?$/.exec(tag);
  const isWanted = environment === 'uat' ? tag === 'uat' : environment === 'prod' && version !== null;
  return component !== includedComponent && isWanted;
}

const open = noAdmissionRules;
export const worldEnvironments = {
  dev: {
    rules: tagRules('dev', ['c-{commit:12}', '{version}'], ['{branch}', '{major}.{minor}', 'latest']),
    admissionRules: open,
  },
  uat: { rules: tagRules('uat', ['c-{commit:12}', '{version}'], ['uat', 'uat-{platform}']), admissionRules: open },
  staging: { rules: tagRules('staging', ['{version}', 'c-{commit:12}'], ['staging']), admissionRules: open },
  prod: {
    rules: tagRules(
      'prod',
      ['c-{commit:12}', '{version}', '{version}-{platform}'],
      ['{major}.{minor}', 'latest', '{major}.{minor}-{platform}'],
    ),
    admissionRules: { ...open, results: ['smoke'], signOffs: 1 },
  },
};

/** A commit on one of four branches; some are releases, some change nothing in what is built. */
export const change = fc.record({
  on: fc.constantFrom('main', 'main', 'main', 'work', 'support-1.1', 'theirs'),
  released: fc.boolean(),
  touches: fc.subarray([...built]),
  /** From here on its branch has no tide-watch, or has it again. */
  turns: fc.constantFrom(false, false, false, false, false, true),
});

/** What is committed, in its order. */
interface Change {
  readonly on: string;
  readonly released: boolean;
  readonly touches: readonly string[];
  readonly turns: boolean;
}

export function historyOf(changes: readonly Change[]): Commit[] {
  const commits: Commit[] = [];
  const tips = new Map<string, Commit>();
  const patches = new Map<string, number>();
  let minor = 0;
  const first = { on: 'main', released: true, touches: [...built], turns: false };
  for (const { on, released, touches, turns } of [first, ...changes]) {
    const parent = tips.get(on) ?? tips.get('main');
    const at = commits.length;
    const id = commitId(at);
    const ancestors = new Set(parent === undefined ? [] : [parent.id, ...parent.ancestors]);
    // Branches of others release too, and should not.
    minor += on === 'main' && released ? 1 : 0;
    const line = on === 'support-1.1' ? '1.1' : on === 'main' ? `1.${minor}` : '7.0';
    const patch = (patches.get(line) ?? -1) + 1;
    const version = released ? parseVersion(`${line}.${patch}`) : undefined;
    patches.set(line, released ? patch : patch - 1);
    const has = (component: string): boolean =>
      component === 'timetable' || parent === undefined || (parent.content[component] !== undefined) !== turns;
    const content: Record<string, string> = Object.fromEntries(
      built
        .filter(has)
        .map((component) => [
          component,
          touches.includes(component) ? `${component} ${at}` : (parent?.content[component] ?? `${component} ${at}`),
        ]),
    );
    // Another product builds it, and releases it less often.
    if (at > 1) {
      content[includedComponent] = `${includedComponent} ${Math.floor(at / 3)}`;
    }
    const commit: Commit = {
      id,
      ancestors,
      branch: on,
      version: version === undefined ? { kind: 'none', near: [] } : { kind: 'given', version, source: 'git' },
      content,
      pullRequest: on === 'theirs',
    };
    commits.push(commit);
    tips.set(on, commit);
  }
  return commits;
}

type Event =
  /** The next commit, or an earlier one, late or again. */
  | { kind: 'publish'; late: number | null; only: boolean }
  | { kind: 'promote'; to: 'uat' | 'staging' | 'prod'; named: number | null }
  /** Of the whole environment, or of one lane. */
  | { kind: 'rollback'; environment: Environment; lane: (typeof lanes)[number] | null }
  | { kind: 'evidence' }
  /** Somebody moves a tag by hand, to something or to nothing; then tags are restored. */
  | { kind: 'tamper'; environment: Environment; component: string; tag: number; to: number | null }
  /** The environment moves to its other registry. */
  | { kind: 'move'; environment: Environment }
  /** From now on releases come into prod through staging. */
  | { kind: 'insert' }
  | Attack;

/** What somebody tries who may write to dev's registry and to the ledger alone, with any hod.yaml. */
interface Attack {
  kind: 'attack';
  does: 'publish' | 'promote' | 'rollback';
  /** The environment, and that in whose registry their hod.yaml has it. */
  environment: Environment;
  at: Environment;
  /** Where it is promoted from, and whose registry that is. */
  from: Environment;
  fromAt: Environment;
  bad: number;
  /** The lane that they roll back; else the environment, to what nobody admitted. */
  lane: (typeof lanes)[number] | null;
  /** With --new-way-in. */
  accepts: boolean;
}
/** The environments that there are from the start. */
const attacked = ['dev', 'uat', 'prod'] as const;
const attack: fc.Arbitrary<Event> = fc.record({
  kind: fc.constant('attack' as const),
  does: fc.constantFrom('publish' as const, 'publish' as const, 'promote' as const, 'rollback' as const),
  environment: fc.constantFrom(...attacked, 'prod'),
  at: fc.constantFrom(...attacked),
  from: fc.constantFrom(...attacked),
  fromAt: fc.constantFrom(...attacked),
  bad: fc.nat(2),
  lane: fc.option(fc.constantFrom(...lanes), { freq: 2, nil: null }),
  accepts: fc.boolean(),
});
const event: fc.Arbitrary<Event> = fc.oneof(
  {
    weight: 6,
    arbitrary: fc.record({
      kind: fc.constant('publish' as const),
      late: fc.oneof({ weight: 4, arbitrary: fc.constant(null) }, { weight: 1, arbitrary: fc.nat(11) }),
      only: fc.constantFrom(false, false, true),
    }),
  },
  {
    weight: 6,
    arbitrary: fc.record({
      kind: fc.constant('promote' as const),
      to: fc.constantFrom('uat' as const, 'staging' as const, 'prod' as const),
      named: fc.oneof({ weight: 3, arbitrary: fc.constant(null) }, { weight: 1, arbitrary: fc.nat(11) }),
    }),
  },
  {
    weight: 3,
    arbitrary: fc.record({
      kind: fc.constant('rollback' as const),
      environment: fc.constantFrom(...environments),
      lane: fc.option(fc.constantFrom(...lanes), { freq: 2 }),
    }),
  },
  { weight: 3, arbitrary: fc.record({ kind: fc.constant('evidence' as const) }) },
  {
    weight: 1,
    arbitrary: fc.record({
      kind: fc.constant('tamper' as const),
      environment: fc.constantFrom(...environments),
      component: fc.constantFrom(...components),
      tag: fc.nat(20),
      to: fc.option(fc.nat(11)),
    }),
  },
);

/** The same, and environments that move and are added. */
const eventOrMove: fc.Arbitrary<Event> = fc.oneof(
  { weight: 19, arbitrary: event },
  {
    weight: 1,
    arbitrary: fc.record({ kind: fc.constant('move' as const), environment: fc.constantFrom(...environments) }),
  },
  { weight: 1, arbitrary: fc.record({ kind: fc.constant('insert' as const) }) },
);

/** The way of a release into an environment; into staging there is none before it is there. */
function stepInto(to: 'uat' | 'staging' | 'prod', isInserted: boolean): readonly [Environment, Environment] {
  if (isInserted && to === 'prod') {
    return ['staging', 'prod'];
  }
  return steps[to === 'staging' && !isInserted ? 'uat' : to];
}

/** The commits that promotions brought into an environment since so many entries. */
function broughtSince(world: DeliveryWorld, count: number, environment: string): CommitId[] {
  const actions = world.entries.slice(count).map(({ entry }) => entry.action);
  return actions.flatMap((action) =>
    action.kind === 'promoted' && action.environment === environment ? [action.commit] : [],
  );
}

/** Plays what happens, a few things at a time, some of them killed on the way and run again. Answers what was refused. */
async function play(
  world: DeliveryWorld,
  scheduler: fc.Scheduler,
  commits: readonly Commit[],
  batches: readonly (readonly { event: Event; kill: number | null }[])[],
  refused: Map<string, number>,
  advice: string[] = [],
): Promise<void> {
  const replay = new Replay(world, commits);
  /** A tag of what was withdrawn could not be removed. */
  const seen = { leftOver: false };
  let count = 0;
  let next = 0;
  let isInserted = false;
  /** Releases came into prod from uat: whoever brings one from staging says that it is meant. */
  const despiteOf = (to: string) => ({
    ...inSpiteOfNothing,
    newWayIn: isInserted && to === 'prod',
    ...(isInserted && to === 'prod' ? { reason: 'through staging' } : {}),
  });
  /** Where environments move to in this batch. */
  let hosts = new Map<Environment, string>();
  const act = async (each: Event, at: number, reason: string, kill: number): Promise<void> => {
    switch (each.kind) {
      case 'publish': {
        const commit = commits[at];
        // By itself a version would stand for something else.
        const only = each.only && commit?.version.kind === 'none' ? ['timetable'] : Object.keys(commit?.content ?? {});
        if (commit !== undefined) {
          await world.publish(commit, kill, only);
        }
        return;
      }
      case 'promote': {
        const commit = each.named === null ? undefined : commits[each.named % (at + 1)];
        const [from, to] = stepInto(each.to, isInserted);
        await world.promote([from, to], commit && { commit: commit.id }, kill, despiteOf(to));
        return;
      }
      case 'rollback':
        await world.rollback(each.environment, reason, {
          ...(each.lane === null ? {} : { lane: each.lane }),
          steps: kill,
        });
        return;
      case 'tamper':
        await world.restore(each.environment, kill);
        return;
      case 'move':
        await world.move(each.environment, hosts.get(each.environment) ?? each.environment, kill);
        return;
      case 'insert':
        return;
      case 'attack':
        await attempt(world, each, commits, reason);
        return;
      case 'evidence': {
        const [from] = stepInto('prod', isInserted);
        const choice = { servedBy: from, isFirst: false, checkout: undefined };
        await world.record(
          {
            choice,
            environment: from,
            said: { kind: 'result', name: 'smoke', passed: true, link: undefined },
          },
          'ci',
        );
        await world.record(
          {
            choice,
            environment: 'prod',
            said: { kind: 'signed-off' },
          },
          'ole',
        );
      }
    }
  };
  const expectedRefusal = (error: unknown, each?: Event): boolean => {
    // What a promotion names may be older than all that came along when an environment moved.
    const isExpected = (code: ErrorCode): boolean =>
      code === 'tag-not-removed' || (code === 'content-gone' && each?.kind === 'promote');
    if (error instanceof HodError && (error.fault === 'refused' || isExpected(error.code))) {
      seen.leftOver ||= error.code === 'tag-not-removed';
      refused.set(error.code, (refused.get(error.code) ?? 0) + 1);
      advice.push([error.problem.next ?? ''].flat().join(' '));
      return true;
    }
    return false;
  };
  const refusalOnly = (error: unknown, each?: Event): void => {
    if (!expectedRefusal(error, each)) {
      throw error;
    }
  };
  for (const batch of batches) {
    const again: [Event, () => Promise<void>][] = [];
    hosts = new Map(environments.map((name) => [name, world.otherHost(name)]));
    const begun = world.entries.length;
    const runs = batch.map(async ({ event: each, kill }) => {
      count += 1;
      const reason = `reason ${count}`;
      next += each.kind === 'publish' && each.late === null ? 1 : 0;
      const newest = Math.min(next, commits.length - 1);
      const at = each.kind === 'publish' && each.late !== null ? each.late % (newest + 1) : newest;
      await act(each, at, reason, kill ?? Infinity).catch((error: unknown) => {
        if (error instanceof Killed) {
          again.push([each, () => act(each, at, reason, Infinity)]);
        } else if (!expectedRefusal(error, each)) {
          throw error;
        }
      });
    });
    await scheduler.waitFor(Promise.all(runs));
    // What a killed run was to bring in may not be there to be brought in any more. The remedy that is named finishes its tags.
    const finish = async (name: string, error: unknown, each: Event): Promise<void> => {
      refusalOnly(error, each);
      if (name !== 'none') {
        await world.restore(name).catch((error: unknown) => refusalOnly(error));
      }
    };
    const runAgain = async (each: Event, run: () => Promise<void>): Promise<void> => {
      const name =
        each.kind === 'promote' ? stepInto(each.to, isInserted)[1] : 'environment' in each ? each.environment : 'none';
      try {
        await run();
      } catch (error) {
        await finish(name, error, each);
        return;
      }
      // What was named by where it is served may be something else by now. What was killed is finished under its name.
      if (each.kind === 'promote' && each.named === null) {
        const [from, to] = stepInto(each.to, isInserted);
        for (const commit of broughtSince(world, begun, to)) {
          await world
            .promote([from, to], { commit }, Infinity, despiteOf(to))
            .catch((error: unknown) => finish(name, error, each));
        }
      }
    };
    for (const [each, run] of again) {
      await scheduler.waitFor(runAgain(each, run));
    }
    for (const { event: each } of batch) {
      if (each.kind === 'tamper') {
        tamper(world, each, commits[each.to === null ? commits.length : each.to % commits.length]);
        await scheduler.waitFor(world.restore(each.environment).catch((error: unknown) => refusalOnly(error)));
      }
    }
    // Tags that could not be removed, where nothing was served that they could point to: the error names the remedy.
    if (seen.leftOver) {
      for (const name of environments) {
        await scheduler.waitFor(world.restore(name).catch((error: unknown) => refusalOnly(error)));
      }
    }
    // Runs keep the hod.yaml that they began with.
    isInserted ||= batch.some(({ event: each }) => each.kind === 'insert');
    expectAsModelled(world, replay, isInserted);
  }
}

/** Somebody moves a tag by hand, or removes it. */
function tamper(
  world: DeliveryWorld,
  { environment, component, tag: at }: Extract<Event, { kind: 'tamper' }>,
  to: Commit | undefined,
): void {
  const tags = [...world.tagsOf(environment, component).keys()].sort();
  const tag = tags[at % tags.length];
  if (tag !== undefined) {
    world.tamper(environment, component, tag, to && world.digestOf(to, component));
  }
}

/** Something is served everywhere from the start. */
const fromTheStart = (
  [
    { kind: 'publish', late: 0, only: false },
    { kind: 'promote', to: 'uat', named: null },
    { kind: 'evidence' },
    { kind: 'promote', to: 'prod', named: null },
  ] satisfies Event[]
).map((each) => [{ event: each, kill: null }]);

/** Content that nobody released, which came into every registry along with something else. */
const badCommits = Array.from({ length: 3 }, (_, at): Omit<Commit, 'ancestors'> => {
  return {
    id: commitSchema.parse(`bad${at}`.padEnd(40, 'b')),
    branch: 'main',
    version: { kind: 'given', version: parseVersion(`99.0.${at}`), source: 'git' },
    content: Object.fromEntries(components.map((component) => [component, `bad ${component} ${at}`])),
  };
});

async function attempt(world: DeliveryWorld, each: Attack, commits: readonly Commit[], reason: string): Promise<void> {
  const bad = badCommits[each.bad] ?? never();
  const commit = { ...bad, ancestors: new Set(commits.map(({ id }) => id)) };
  const { environment, from, does } = each;
  const stranger = { name: 'mara', places: { [from]: each.fromAt, [environment]: each.at }, rights: ['dev'] };
  const despite = { ...inSpiteOfNothing, newWayIn: each.accepts, reason };
  if (environment === 'dev' && each.at === 'dev') {
    return;
  }
  const attempted =
    does === 'publish'
      ? world.publish(commit, Infinity, [...components], { environment, stranger, despite })
      : does === 'promote'
        ? world.promote([from, environment], undefined, Infinity, despite, stranger)
        : world.rollback(environment, reason, {
            ...(each.lane === null ? { to: { commit: commit.id } } : { lane: each.lane }),
            stranger,
          });
  await attempted.catch((error: unknown) => {
    if (!(error instanceof HodError) || !['refused', 'denied', 'missing'].includes(error.fault)) {
      throw error;
    }
  });
}

/** Nothing that a stranger tried is on record, and nothing that they brought is served or pointed to. */
function expectNothingBad(world: DeliveryWorld, advice: readonly string[]): void {
  same(
    world.entries.filter(({ entry }) => entry.actor === 'mara').map(({ entry }) => entry.action),
    [],
  );
  const smuggled = new Set(
    badCommits.flatMap(({ content }) =>
      components.map((component) => nodeOf(content[component] ?? '').manifest.digest),
    ),
  );
  for (const environment of environments) {
    for (const component of components) {
      same(
        [...world.tagsOf(environment, component)].filter(([, digest]) => smuggled.has(digest)),
        [],
      );
    }
  }
  same(
    advice.filter((text) => badCommits.some(({ id }) => text.includes(id)) || text.includes('99.0.')),
    [],
  );
}

/** Whatever somebody with the rights for dev and the ledger tries, with any hod.yaml: prod never serves it, nor is it advised. */
export function strangersModel(): Model {
  const refused = new Map<string, number>();
  const advice: string[] = [];
  return modelOf(
    'strangers',
    fc.asyncProperty(
      fc.scheduler(),
      fc.array(change, { minLength: 8, maxLength: 8 }),
      fc.array(
        fc.array(
          fc.record({
            event: fc.oneof({ weight: 1, arbitrary: event }, { weight: 1, arbitrary: attack }),
            kill: fc.option(fc.nat(60), { freq: 6 }),
          }),
          { minLength: 1, maxLength: 3 },
        ),
        { minLength: 8, maxLength: 12 },
      ),
      async (scheduler, changes, batches) => {
        const commits = historyOf(changes);
        const world = new DeliveryWorld(commits, worldEnvironments, () => scheduler.schedule(Promise.resolve()));
        for (const { content } of badCommits) {
          environments.forEach((name) =>
            components.forEach((component) => world.smuggle(name, component, content[component] ?? '')),
          );
        }
        advice.length = 0;
        await play(world, scheduler, commits, [...fromTheStart, ...batches], refused, advice);
        expectNothingBad(world, advice);
      },
    ),
    () => ok((refused.get('not-newer') ?? 0) > 0),
  );
}

/** Whoever publishes, promotes, rolls back and is killed: environments are what the model says, after every step. */
export function environmentsModel(): Model {
  const refused = new Map<string, number>();
  const seen = new Map<string, number>();
  return modelOf(
    'environments',
    fc.asyncProperty(
      fc.scheduler(),
      fc.array(change, { minLength: 12, maxLength: 12 }),
      fc.array(
        fc.array(fc.record({ event: eventOrMove, kill: fc.option(fc.nat(60), { freq: 3 }) }), {
          minLength: 1,
          maxLength: 3,
        }),
        {
          minLength: 14,
          maxLength: 24,
          size: 'max',
        },
      ),
      fc.boolean(),
      async (scheduler, changes, batches, removesTags) => {
        const commits = historyOf(changes);
        const turn = () => scheduler.schedule(Promise.resolve());
        const world = new DeliveryWorld(commits, worldEnvironments, turn, removesTags);
        await play(world, scheduler, commits, [...fromTheStart, ...batches], refused);
        for (const { entry } of world.entries) {
          const ways = 'arrivals' in entry.action ? entry.action.arrivals.map(({ way }) => way) : [];
          for (const name of new Set([entry.action.kind, ...ways])) {
            seen.set(name, (seen.get(name) ?? 0) + 1);
          }
        }
      },
    ),
    () => {
      // Everything that can happen did, and often.
      for (const name of [
        'published',
        'promoted',
        'rolled-back',
        'result',
        'signed-off',
        'moved',
        'takes-over',
        'beside',
        'held',
      ]) {
        ok((seen.get(name) ?? 0) > 5, name);
      }
      for (const code of [
        'nothing-before',
        'withdrawn',
        'result-missing',
        'not-followed',
        'branch-not-taken',
        'no-such-line',
        'line-served',
      ]) {
        ok(refused.has(code), code);
      }
    },
  );
}
