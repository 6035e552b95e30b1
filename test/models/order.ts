import { deepStrictEqual as same, ok } from 'node:assert';
import fc from 'fast-check';
import type { Digest } from '../../src/core/oci/digest';
import type { VersionRequest } from '../../src/core/build/version-request';
import { noAdmissionRules } from '../../src/core/ledger/rules';
import { compareVersions, everyVersion, isPrerelease, parseVersion, type Version } from '../../src/core/tags/version';
import { commitId, DeliveryWorld, Killed, never, tagRules, type Commit } from './delivery-world';
import { modelOf, type Model } from './model';

const rules = tagRules('dev', ['c-{commit:12}', '{version}'], ['{branch}', '{major}.{minor}', '{major}', 'latest']);

export const worldOf = (commits: readonly Commit[], turn: () => Promise<unknown>) =>
  new DeliveryWorld(commits, { dev: { rules, admissionRules: noAdmissionRules } }, turn);

export const digestOf = (world: DeliveryWorld, commit: Commit): Digest => world.digestOf(commit, 'timetable');

/** What happens next to a history. */
type Event =
  | { kind: 'commit'; on: number }
  | { kind: 'branch' }
  | { kind: 'merge'; from: number }
  | { kind: 'release'; part: 'major' | 'minor' | 'patch'; pre: boolean }
  | { kind: 'backport' };
const event: fc.Arbitrary<Event> = fc.oneof(
  fc.record({ kind: fc.constant('commit' as const), on: fc.nat(3) }),
  fc.record({ kind: fc.constant('branch' as const) }),
  fc.record({ kind: fc.constant('merge' as const), from: fc.nat(3) }),
  fc.record({
    kind: fc.constant('release' as const),
    part: fc.constantFrom('major', 'minor', 'patch'),
    pre: fc.boolean(),
  }),
  fc.record({ kind: fc.constant('backport' as const) }),
);

/** Builds a history: a main line with releases and pre-releases, branches that are merged, and backports. */
export function historyOf(events: readonly Event[]): Commit[] {
  const commits: Commit[] = [];
  const tips = new Map<string, Commit>();
  const releases: { version: Version; commit: Commit }[] = [];
  const grow = (branch: string, parents: readonly (Commit | undefined)[], version?: Version): Commit => {
    const known = parents.filter((parent) => parent !== undefined);
    const id = commitId(commits.length);
    const ancestors = new Set(known.flatMap((parent) => [parent.id, ...parent.ancestors]));
    const request: VersionRequest =
      version === undefined ? { kind: 'none', near: [] } : { kind: 'given', version, source: 'git' };
    const commit = { id, ancestors, branch, version: request, content: { timetable: id } };
    commits.push(commit);
    tips.set(branch, commit);
    return commit;
  };
  grow('main', []);
  const others = (): string[] => [...tips.keys()].filter((name) => name !== 'main');
  for (const each of events) {
    const names = others();
    switch (each.kind) {
      case 'commit': {
        const branch = names[each.on] ?? 'main';
        grow(branch, [tips.get(branch)]);
        break;
      }
      case 'branch':
        grow(`work-${names.length}`, [tips.get('main')]);
        break;
      case 'merge':
        grow('main', [tips.get('main'), tips.get(names[each.from] ?? 'main')]);
        break;
      case 'release': {
        const last = releases.filter(({ commit }) => commit.branch === 'main').at(-1)?.version ?? '1.0.0';
        const [major = 0, minor = 0, patch = 0] = last.split('-')[0]?.split('.').map(Number) ?? [];
        const next = { major: [major + 1, 0, 0], minor: [major, minor + 1, 0], patch: [major, minor, patch + 1] }[
          each.part
        ];
        // A backport may have taken the next patch.
        const isTaken = (): boolean => releases.some(({ version }) => version.startsWith(next.join('.')));
        while (isTaken()) {
          next[2] = (next[2] ?? 0) + 1;
        }
        const version = parseVersion(`${next.join('.')}${each.pre ? '-rc.1' : ''}`);
        releases.push({ version, commit: grow('main', [tips.get('main')], version) });
        break;
      }
      case 'backport': {
        // The last but one release is mended: its next patch, unless it is taken.
        const base = releases.filter(({ version }) => !isPrerelease(version)).at(-2);
        const [major, minor, patch] = base?.version.split('.').map(Number) ?? [];
        const text = `${major ?? 0}.${minor ?? 0}.${(patch ?? 0) + 1}`;
        if (base !== undefined && !releases.some(({ version }) => version.startsWith(text))) {
          const version = parseVersion(text);
          releases.push({ version, commit: grow(`support-${text}`, [base.commit], version) });
        }
      }
    }
  }
  return commits;
}

/** Publishes commits, several at a time, some of them killed on the way, and those again at the end. */
async function publishAll(
  world: DeliveryWorld,
  scheduler: fc.Scheduler,
  order: readonly Commit[],
  lanes: number,
  steps: readonly (number | null)[],
): Promise<void> {
  const killed: Commit[] = [];
  const run = async (commit: Commit, last: number | null | undefined): Promise<void> => {
    try {
      await world.publish(commit, last ?? undefined);
    } catch (error) {
      if (!(error instanceof Killed)) {
        throw error;
      }
      killed.push(commit);
    }
  };
  const queue = order.map((commit, at) => ({ commit, last: steps[at % Math.max(1, steps.length)] }));
  const lane = async (): Promise<void> => {
    for (let next = queue.shift(); next !== undefined; next = queue.shift()) {
      await run(next.commit, next.last);
    }
  };
  const all = Promise.all(Array.from({ length: lanes }, lane));
  await scheduler.waitFor(all);
  for (const commit of killed) {
    await scheduler.waitFor(world.publish(commit));
  }
}

const lanes = fc.integer({ min: 1, max: 4 });
const steps = fc.array(fc.option(fc.nat(25)), { maxLength: 5 });

/** Whatever the order, the publishers and the kills: tags end where one publisher in the right order leaves them. */
export function orderModel(): Model {
  let reruns = 0;
  return modelOf(
    'order',
    fc.asyncProperty(
      fc.scheduler(),
      fc.array(event, { maxLength: 12 }),
      fc.infiniteStream(fc.nat()),
      lanes,
      steps,
      async (scheduler, events, random, publishers, kills) => {
        const commits = historyOf(events);
        const builds = commits.flatMap((commit) =>
          Number(random.next().value) % 4 === 0 ? [commit, commit] : [commit],
        );
        reruns += builds.length - commits.length;
        const order = builds
          .map((build) => ({ build, key: Number(random.next().value) }))
          .sort((a, b) => a.key - b.key)
          .map(({ build }) => build);
        const world = worldOf(commits, () => scheduler.schedule(Promise.resolve()));
        await publishAll(world, scheduler, order, publishers, kills);

        const versions = new Map(
          commits.flatMap((commit) =>
            commit.version.kind === 'given' ? [[commit.version.version, commit] as const] : [],
          ),
        );
        const expectAt = (tag: string, commit: Commit | undefined): void =>
          same([tag, world.at(tag)], [tag, commit && digestOf(world, commit)]);
        const highest = (line: string): Commit | undefined => {
          const all = [...versions.keys()].filter((version) => !isPrerelease(version) && version.startsWith(line));
          return versions.get(all.sort(compareVersions).at(-1) ?? parseVersion('0.0.0'));
        };
        for (const commit of commits) {
          expectAt(`c-${commit.id.slice(0, 12)}`, commit);
          expectAt(commit.branch, commits.filter(({ branch }) => branch === commit.branch).at(-1));
        }
        for (const [version, commit] of versions) {
          const [major = '', minor = ''] = version.split('.');
          expectAt(version, commit);
          expectAt(`${major}.${minor}`, highest(`${major}.${minor}.`));
          expectAt(major, highest(`${major}.`));
        }
        expectAt('latest', highest(''));
        // One entry for each build, whatever was killed and run again; one more where it came beside, or was held, and takes
        // over now: what it could not be compared with was replaced meanwhile.
        const came = new Map<string, string>();
        for (const { entry } of world.entries) {
          const { commit, arrivals } = entry.action.kind === 'published' ? entry.action : never();
          const [before, way = ''] = [came.get(commit), arrivals[0]?.way];
          ok(before === undefined || (before !== 'takes-over' && way === 'takes-over'), `entry ${entry.seq}`);
          came.set(commit, way);
        }
        same(came.size, commits.length);
      },
    ),
    () => ok(reruns > 15),
  );
}

/** Whoever asks for the next version: each is unique, none is skipped, and a later commit never has an earlier one. */
export function versionsModel(): Model {
  let shared = 0;
  return modelOf(
    'versions',
    fc.asyncProperty(
      fc.scheduler(),
      fc.array(fc.nat(3), { minLength: 2, maxLength: 10 }),
      fc.infiniteStream(fc.nat()),
      lanes,
      steps,
      async (scheduler, contents, random, publishers, kills) => {
        const commits = contents.map((content, at): Commit => {
          const version = { kind: 'next', part: 'patch', line: everyVersion } as const;
          // Some commits change nothing in what is built.
          const same = at > 0 && content === 0;
          const made = same ? contents.slice(0, at).findLastIndex((each, before) => before === 0 || each !== 0) : at;
          return {
            id: commitId(at),
            ancestors: new Set(contents.slice(0, at).map((_, before) => commitId(before))),
            branch: 'main',
            version,
            content: { timetable: String(made) },
          };
        });
        const order = [...commits, ...commits.slice(0, 2)]
          .map((build) => ({ build, key: Number(random.next().value) }))
          .sort((a, b) => a.key - b.key)
          .map(({ build }) => build);
        const world = worldOf(commits, () => scheduler.schedule(Promise.resolve()));
        await publishAll(world, scheduler, order, publishers, kills);

        const published = world.entries.flatMap(({ entry: { action } }) =>
          action.kind === 'published' ? [action] : [],
        );
        const given = new Map<string, Set<Digest>>();
        for (const { version, components } of published) {
          if (version !== undefined) {
            given.set(version, new Set([...(given.get(version) ?? []), ...components.map(({ digest }) => digest)]));
          }
        }
        // Unique: a version stands for one content. Without gaps: 0.0.1, 0.0.2, …
        ok([...given.values()].every((digests) => digests.size === 1));
        same(
          [...given.keys()],
          [...given.keys()].map((_, at) => `0.0.${at + 1}`),
        );
        // Later entries with a new version are of later commits.
        const firsts = [...given.keys()].map(
          (version) => published.find((each) => each.version === version)?.commit ?? '',
        );
        same(firsts, [...firsts].sort());
        const last = [...given.keys()].at(-1) ?? '';
        same(world.at('latest'), world.at(last));
        // The newest commit has the last version, or holds the same as the commit that has it.
        same(world.at(last), digestOf(world, commits.at(-1) ?? never()));
        shared += published.filter(({ version }) => version !== undefined).length - given.size;
      },
    ),
    () => ok(shared > 5),
  );
}
