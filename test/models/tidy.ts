import { deepStrictEqual as same, ok } from 'node:assert';
import { setImmediate as immediate } from 'node:timers/promises';
import fc from 'fast-check';
import { servedIn } from '../../src/core/ledger/environment';
import type { Digest } from '../../src/core/oci/digest';
import type { Manifest } from '../../src/core/oci/manifest';
import type { Tag } from '../../src/core/oci/tag';
import type { KeepRules } from '../../src/core/tidy/keep';
import { DeliveryWorld, isFixed, Killed, type Commit } from './delivery-world';
import { components, historyOf, steps, worldEnvironments } from './environments';
import { modelOf, outcome, type Model } from './model';

const environments = ['dev', 'uat', 'staging', 'prod'] as const;
type Environment = (typeof environments)[number];
const touched = ['timetable', 'tide-watch'] as const;

type Event =
  /** `late`: the build of an older commit runs again. */
  | { kind: 'publish'; late: number }
  | { kind: 'promote'; to: 'uat' | 'prod'; named: number | null }
  | { kind: 'rollback'; environment: Environment; line: boolean }
  | { kind: 'evidence' };

const event: fc.Arbitrary<Event> = fc.oneof(
  {
    weight: 9,
    arbitrary: fc.record({ kind: fc.constant('publish' as const), late: fc.constantFrom(0, 0, 0, 1, 2, 3, 6) }),
  },
  {
    weight: 4,
    arbitrary: fc.record({
      kind: fc.constant('promote' as const),
      to: fc.constantFrom('uat' as const, 'prod' as const),
      named: fc.option(fc.nat(9), { freq: 3 }),
    }),
  },
  {
    weight: 2,
    arbitrary: fc.record({
      kind: fc.constant('rollback' as const),
      environment: fc.constantFrom('dev' as const, 'uat' as const, 'prod' as const),
      line: fc.boolean(),
    }),
  },
  { weight: 2, arbitrary: fc.constant({ kind: 'evidence' as const }) },
);

/** Most builds have no version, so that not each of them is the newest of a line. */
const fewReleases = fc.record({
  on: fc.constantFrom('main', 'main', 'main', 'main', 'support-1.1', 'work'),
  released: fc.constantFrom(false, false, true),
  touches: fc.subarray([...touched], { minLength: 1 }),
  turns: fc.constant(false),
});

/** Now and then a commit brings back what an earlier one held: a revert. */
function withReverts(commit: Commit): Commit {
  const content = Object.entries(commit.content).map(([component, text]) => [
    component,
    text.replace(/\d+$/, (at) => String(Number(at) % 5)),
  ]);
  return { ...commit, content: Object.fromEntries(content) };
}

/** Something is served everywhere from the start. */
const fromTheStart: readonly Event[] = [
  { kind: 'publish', late: 0 },
  { kind: 'promote', to: 'uat', named: null },
  { kind: 'evidence' },
  { kind: 'promote', to: 'prod', named: null },
  { kind: 'publish', late: 0 },
  { kind: 'publish', late: 0 },
  { kind: 'publish', late: 0 },
];

/** Tidying that goes on beside what happens, and where it is killed. */
const tidying = fc.record({
  limit: fc.constantFrom(undefined, undefined, 1, 3),
  kill: fc.option(fc.nat(400), { freq: 2 }),
  /** How many steps it is ahead. */
  ahead: fc.nat(200),
  /** Somebody gives a tag to something that is there, by hand. */
  byHand: fc.oneof({ weight: 4, arbitrary: fc.constant(null) }, { weight: 1, arbitrary: fc.nat(40) }),
});

const keepRules: fc.Arbitrary<KeepRules> = fc.record({
  releases: fc.constantFrom(1, 1, 2),
  for: fc.constant(undefined),
  branches: fc.constantFrom(undefined, 1),
  rollbacks: fc.constantFrom(0, 0, 1, 2),
});

/** One of two worlds. */
class Twin {
  private next = 0;
  private count = 0;

  constructor(
    readonly world: DeliveryWorld,
    readonly commits: readonly Commit[],
  ) {}

  /** The commit that an event is about, where it names one. */
  commitOf(each: Event): Commit | undefined {
    if (each.kind === 'publish') {
      return this.commits[Math.max(0, Math.min(this.next, this.commits.length - 1) - each.late)];
    }
    return each.kind === 'promote' && each.named !== null ? this.commits[each.named % (this.next + 1)] : undefined;
  }

  async act(each: Event): Promise<string> {
    const { world } = this;
    const commit = this.commitOf(each);
    switch (each.kind) {
      case 'publish':
        return commit === undefined ? 'done' : outcome(world.publish(commit));
      case 'promote':
        return outcome(world.promote(steps[each.to], commit && { commit: commit.id }));
      case 'rollback':
        return outcome(world.rollback(each.environment, `reason ${this.count}`, each.line ? { lane: 'line 1.1' } : {}));
      case 'evidence':
        return outcome(this.record());
    }
  }

  /** What happened is over, in both worlds. */
  goOn(each: Event): void {
    this.count += 1;
    this.next += each.kind === 'publish' && each.late === 0 ? 1 : 0;
  }

  /** What environments serve, and where their moving tags lead. */
  stands(): unknown {
    return environments.map((environment) => ({
      environment,
      served: servedIn(this.world.facts, environment)
        .map((each) => [each.component, each.digest, each.version, each.commit])
        .sort(),
      tags: components.map((component) =>
        [...this.world.tagsOf(environment, component)].filter(([tag]) => !isFixed(tag) && !isByHand(tag)).sort(),
      ),
    }));
  }

  private async record(): Promise<void> {
    const choice = { servedBy: 'uat', isFirst: false, checkout: undefined };
    const result = { kind: 'result', name: 'smoke', passed: true, link: undefined } as const;
    await this.world.record({ choice, environment: 'uat', said: result }, 'ci');
    await this.world.record({ choice, environment: 'prod', said: { kind: 'signed-off' } }, 'ole');
  }
}

const isByHand = (tag: Tag): boolean => tag.startsWith('hand');

/** Gives a tag by hand to something that is in a repository, in a world. */
function tagByHand(world: DeliveryWorld, at: number): void {
  const environment = environments[at % environments.length] ?? 'dev';
  const component = components[at % components.length] ?? 'timetable';
  const all = [...world.manifestsOf(environment, component).keys()].sort();
  const digest = all[at % all.length];
  const tag = [...world.tagsOf(environment, component).keys()][0];
  if (digest !== undefined && tag !== undefined) {
    // A tag that nobody else writes.
    world.tagsOf(environment, component).set(`hand-${at}` as Tag, digest);
    byHand.set(world, [...(byHand.get(world) ?? []), { environment, component, tag: `hand-${at}` as Tag, digest }]);
  }
}

/** What was tagged by hand in each world: it stays. */
const byHand = new WeakMap<DeliveryWorld, readonly ByHand[]>();
interface ByHand {
  readonly environment: Environment;
  readonly component: string;
  readonly tag: Tag;
  readonly digest: Digest;
}

/** No tag leads to anything that is not whole, whoever wrote it. A reader of its own: what manifests list must be there. */
export function expectWhole(world: DeliveryWorld): void {
  const tagged = new Map(
    (byHand.get(world) ?? []).map((each) => [`${each.environment} ${each.component} ${each.tag}`, each]),
  );
  for (const { environment, component, tag, digest } of tagged.values()) {
    same(
      [environment, component, tag, world.tagsOf(environment, component).get(tag)],
      [environment, component, tag, digest],
    );
  }
  for (const environment of environments) {
    for (const component of components) {
      const manifests = world.manifestsOf(environment, component);
      for (const [tag, digest] of world.tagsOf(environment, component)) {
        same([environment, component, tag, missingBelow(digest, manifests)], [environment, component, tag, []]);
      }
      for (const served of servedIn(world.facts, environment).filter((each) => each.component === component)) {
        same([environment, component, missingBelow(served.digest, manifests)], [environment, component, []]);
      }
    }
  }
}

function missingBelow(digest: Digest, manifests: ReadonlyMap<Digest, Manifest>): Digest[] {
  const manifest = manifests.get(digest);
  if (manifest === undefined) {
    return [digest];
  }
  return manifest.kind === 'index' ? manifest.manifests.flatMap((each) => missingBelow(each.digest, manifests)) : [];
}

/** What a repository may have left after tidying, in as few words as there can be; more than that should have gone. */
function mayBeLeft(
  world: DeliveryWorld,
  environment: Environment,
  component: string,
  { keep, sharing }: { readonly keep: KeepRules; readonly sharing: readonly Environment[] },
): Set<Digest> {
  const arrivals = world.entries.flatMap(({ entry: { action } }) =>
    action.kind === 'published' || action.kind === 'promoted'
      ? action.components
          .filter((each) => each.component === component)
          .map(({ digest }) => ({
            ...action,
            digest,
            ways: action.arrivals.filter((each) => each.component === component),
          }))
      : [],
  );
  // Builds that ran again: they came back a moment ago.
  const returned = world.entries.flatMap(({ entry: { action } }) =>
    action.kind === 'returned' ? action.components : [],
  );
  const left = new Set<Digest>(returned.map(({ digest }) => digest));
  environments.forEach((name) => {
    servedIn(world.facts, name).forEach(({ digest }) => left.add(digest));
    const own = arrivals.filter((each) => each.environment === name);
    const earliest = Math.min(...[environment, ...sharing].map((each) => environments.indexOf(each)));
    if (environments.indexOf(name) > earliest) {
      own
        .filter(({ version, ways }) => version !== undefined && ways.some(({ way }) => way === 'takes-over'))
        .forEach(({ digest }) => left.add(digest));
    }
    if (name !== environment && !sharing.includes(name)) {
      return;
    }
    // The newest of everything, and as many of each branch: one of the two counts.
    const newest = [...new Map(own.map((each) => [each.release, each])).values()].reverse();
    const branches = new Set(newest.map(({ branch }) => branch));
    newest.slice(0, keep.releases).forEach(({ digest }) => left.add(digest));
    branches.forEach((branch) => {
      const most = Math.max(keep.releases ?? 0, keep.branches ?? 0);
      newest
        .filter((each) => each.branch === branch)
        .slice(0, most)
        .forEach(({ digest }) => left.add(digest));
    });
  });
  return left;
}

/** The content of the releases of a commit. */
function digestsOf(world: DeliveryWorld, commit: Commit | undefined): Digest[] {
  return world.entries.flatMap(({ entry: { action } }) =>
    action.kind === 'published' && action.commit === commit?.id ? action.components.map(({ digest }) => digest) : [],
  );
}

/** What the registry of an image still has of releases, beside what tags by hand lead to. */
function releasedIn(world: DeliveryWorld, environment: Environment, component: string): Digest[] {
  const manifests = world.manifestsOf(environment, component);
  const released = new Set(
    world.entries.flatMap(({ entry: { action } }) =>
      action.kind === 'published' || action.kind === 'promoted'
        ? action.components.filter((each) => each.component === component).map(({ digest }) => digest)
        : [],
    ),
  );
  // Branches that are not followed have moving tags too, and what somebody tagged by hand stays.
  const led = new Set(
    [...world.tagsOf(environment, component)].flatMap(([tag, digest]) => (isFixed(tag) ? [] : [digest])),
  );
  return [...manifests.keys()].filter((digest) => released.has(digest) && !led.has(digest));
}

/**
 * Two worlds in which the same happens, and tidying in one alone, at the same time and killed: both answer alike after every step,
 * and nothing that is needed is gone. What was tidied cannot be promoted by name: then it happens in neither.
 */
export function tidyModel(): Model {
  const seen = new Map<string, number>();
  const count = (what: string): void => void seen.set(what, (seen.get(what) ?? 0) + 1);
  return modelOf(
    'tidy',
    fc.asyncProperty(
      fc.scheduler(),
      fc.array(fewReleases, { minLength: 20, maxLength: 20 }),
      fc.array(fc.tuple(fc.option(tidying, { freq: 2 }), event), { minLength: 14, maxLength: 22, size: 'max' }),
      fc.record({
        keep: keepRules,
        shared: fc.boolean(),
        removes: fc.constantFrom(
          'both' as const,
          'both' as const,
          'manifests' as const,
          'manifests' as const,
          'tags' as const,
        ),
      }),
      async (scheduler, changes, events, { keep, shared, removes }) => {
        const commits = historyOf(changes).map(withReverts);
        const [tidied, calm] = [true, false].map((isTidied) => {
          const turn = () => (isTidied ? scheduler.schedule(Promise.resolve()) : Promise.resolve());
          const world = new DeliveryWorld(commits, worldEnvironments, turn);
          world.removes = removes;
          if (shared) {
            world.share('uat', 'dev');
          }
          return new Twin(world, commits);
        }) as [Twin, Twin];
        const { world } = tidied;
        const rules = Object.fromEntries(environments.map((name) => [name, keep]));
        // What was removed is as far back as it was then: every rollback since comes a step nearer to it.
        const rolledBack = new Map<Environment, number>();
        // A promotion that lost to tidying may have sent some of it again: no entry says so, and no tag leads to it.
        const sentAgain = new Set<Digest>();
        for (const [tidy, each] of [...fromTheStart.map((each) => [null, each] as const), ...events]) {
          if (tidy !== null && tidy.byHand !== null) {
            tagByHand(world, tidy.byHand);
          }
          const beside = tidy === null ? [] : [world.tidy(rules, tidy.limit, tidy.kill ?? Infinity).catch(onlyKilled)];
          for (let ahead = tidy?.ahead ?? 0; ahead > 0; ahead -= 1) {
            // What it does between two turns is over by then.
            await immediate();
            if (scheduler.count() === 0) {
              break;
            }
            await scheduler.waitNext(1);
          }
          const acting = tidied.act(each);
          await Promise.all([scheduler.waitFor(acting), ...beside.map((one) => scheduler.waitFor(one))]);
          let result = await acting;
          if (result.startsWith('content-')) {
            digestsOf(world, tidied.commitOf(each)).forEach((digest) => sentAgain.add(digest));
          }
          if (result === 'content-removed' || (result === 'content-gone' && tidy !== null)) {
            // Tidying was at it: it ends, and then the same is asked for again.
            count(`beside ${result}`);
            await scheduler.waitFor(world.tidy(rules));
            result = await scheduler.waitFor(tidied.act(each));
          }
          expectWhole(world);
          if (result === 'content-gone') {
            count(`${each.kind} content-gone`);
            ok(
              each.kind === 'promote'
                ? each.named !== null
                : each.kind === 'rollback' && (rolledBack.get(each.environment) ?? 0) >= keep.rollbacks,
            );
            continue;
          }
          if (each.kind === 'rollback' && result === 'done') {
            rolledBack.set(each.environment, (rolledBack.get(each.environment) ?? 0) + 1);
          }
          same([each, result], [each, await calm.act(each)]);
          count(`${each.kind} ${result}`);
          [tidied, calm].forEach((twin) => twin.goOn(each));
          same(tidied.stands(), calm.stands());
        }
        await scheduler.waitFor(world.tidy(rules));
        expectWhole(world);
        same(tidied.stands(), calm.stands());
        const gone = world.entries.flatMap(({ entry: { action } }) =>
          action.kind === 'removed' ? action.contents.filter((content) => content.removed.length > 0) : [],
        );
        count(gone.length > 0 ? 'something went' : 'nothing went');
        if (removes !== 'tags' && keep.rollbacks === 0) {
          for (const environment of environments) {
            for (const component of components) {
              const sharing: Environment[] = !shared || !['dev', 'uat'].includes(environment) ? [] : ['dev', 'uat'];
              const may = mayBeLeft(world, environment, component, { keep, sharing });
              const left = releasedIn(world, environment, component).filter(
                (digest) => !may.has(digest) && !sentAgain.has(digest),
              );
              count(left.length === 0 ? 'all went that could' : 'withdrawn stays');
              ok(left.length === 0 || world.entries.some(({ entry }) => entry.action.kind === 'rolled-back'));
            }
          }
        }
      },
    ),
    () => {
      for (const each of ['something went', 'all went that could', 'publish done', 'promote done', 'rollback done']) {
        ok((seen.get(each) ?? 0) > 5, `${each}: ${JSON.stringify([...seen])}`);
      }
      ok(
        [...seen.keys()].some((each) => each.startsWith('beside')),
        JSON.stringify([...seen]),
      );
    },
  );
}

function onlyKilled(error: unknown): void {
  if (!(error instanceof Killed)) {
    throw error;
  }
}
