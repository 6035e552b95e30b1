import fc from 'fast-check';
import { noAdmissionRules } from '../../src/core/ledger/rules';
import { servedIn } from '../../src/core/ledger/environment';
import { parseVersion } from '../../src/core/tags/version';
import { commitId, tagRules, type Commit, type DeliveryWorld } from './delivery-world';
import { outcome } from './model';

export const components = ['timetable', 'tide-watch'] as const;
export const names = ['dev', 'uat', 'prod'] as const;
export type Name = (typeof names)[number];
const before: Record<'uat' | 'prod', Name> = { uat: 'dev', prod: 'uat' };

const environmentOf = (name: string, moving: string[]) => ({
  rules: tagRules(name, ['c-{commit:12}', '{version}'], moving),
  admissionRules: noAdmissionRules,
});
export const environments = {
  dev: environmentOf('dev', ['{branch}', '{major}.{minor}', 'latest']),
  uat: environmentOf('uat', ['uat']),
  prod: environmentOf('prod', ['{major}.{minor}', 'latest']),
};

/** Commits on a main line, on a line of maintenance and on a branch that nobody follows. */
export const change = fc.record({
  on: fc.constantFrom('main', 'main', 'main', 'support-1.1', 'work'),
  released: fc.boolean(),
  touches: fc.subarray([...components], { minLength: 1 }),
});

export function historyOf(changes: readonly { on: string; released: boolean; touches: readonly string[] }[]): Commit[] {
  const commits: Commit[] = [];
  const tips = new Map<string, Commit>();
  const patches = new Map<string, number>();
  let minor = 0;
  for (const { on, released, touches } of [{ on: 'main', released: true, touches: [...components] }, ...changes]) {
    const parent = tips.get(on) ?? tips.get('main');
    const at = commits.length;
    const id = commitId(at);
    minor += on === 'main' && released ? 1 : 0;
    const line = on === 'support-1.1' ? '1.1' : `1.${minor}`;
    const takes = released && on !== 'work';
    const patch = (patches.get(line) ?? -1) + 1;
    patches.set(line, takes ? patch : patch - 1);
    const commit: Commit = {
      id,
      ancestors: new Set(parent === undefined ? [] : [parent.id, ...parent.ancestors]),
      branch: on,
      version: takes
        ? { kind: 'given', version: parseVersion(`${line}.${patch}`), source: 'git' }
        : { kind: 'none', near: [] },
      content: Object.fromEntries(
        components.map((component) => [
          component,
          touches.includes(component) ? `${component} ${at}` : (parent?.content[component] ?? component),
        ]),
      ),
    };
    commits.push(commit);
    tips.set(on, commit);
  }
  return commits;
}

export const event = fc.oneof(
  { weight: 6, arbitrary: fc.record({ kind: fc.constant('publish' as const), late: fc.nat(3) }) },
  {
    weight: 4,
    arbitrary: fc.record({
      kind: fc.constant('promote' as const),
      to: fc.constantFrom('uat' as const, 'prod' as const),
      named: fc.option(fc.nat(9), { freq: 4 }),
    }),
  },
  {
    weight: 3,
    arbitrary: fc.record({
      kind: fc.constant('rollback' as const),
      of: fc.constantFrom(...names, 'dev' as const),
      lane: fc.option(fc.constantFrom('line 1.1', 'line 1.2', 'branch support-1.1'), { freq: 2 }),
    }),
  },
);

/** What becomes of something that rules may refuse. */
export const refusal = (work: Promise<unknown>): Promise<string> => outcome(work, ({ fault }) => fault === 'refused');

/** What a world looks like from outside: every tag of every environment, and what each serves. */
export function looks(world: DeliveryWorld): object {
  return names.map((name) => ({
    tags: components.map((component) =>
      [...world.tagsOf(name, component)].filter(([tag]) => !tag.startsWith('sha256-')).sort(),
    ),
    served: servedIn(world.facts, name)
      .map(({ component, digest, version, commit }) => [component, digest, version, commit])
      .sort(),
  }));
}

type Event = typeof event extends fc.Arbitrary<infer E> ? E : never;

/** Plays events, after a first publication. Answers the place of the commit that is published next. */
export async function playEvents(
  events: readonly Event[],
  commits: readonly Commit[],
  world: DeliveryWorld,
): Promise<number> {
  let next = 0;
  for (const [count, each] of [{ kind: 'publish' as const, late: 0 }, ...events].entries()) {
    if (each.kind === 'publish') {
      const commit = commits[Math.max(0, next - each.late)];
      next = each.late === 0 ? Math.min(next + 1, commits.length - 2) : next;
      await refusal(commit === undefined ? Promise.resolve() : world.publish(commit));
    } else if (each.kind === 'promote') {
      const commit = each.named === null ? undefined : commits[each.named % (next + 1)];
      await refusal(world.promote([before[each.to], each.to], commit && { commit: commit.id }));
    } else {
      await refusal(world.rollback(each.of, `reason ${count}`, each.lane === null ? {} : { lane: each.lane }));
    }
  }
  return next;
}
