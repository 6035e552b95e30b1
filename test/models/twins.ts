import { deepStrictEqual as same, ok } from 'node:assert';
import fc from 'fast-check';
import { servedIn } from '../../src/core/ledger/environment';
import { tagKey } from '../../src/core/ledger/facts';
import type { RepositoryName } from '../../src/core/oci/reference';
import { DeliveryWorld, isFixed, type Commit } from './delivery-world';
import { change, components, historyOf, steps, worldEnvironments } from './environments';
import { modelOf, outcome, type Model } from './model';

const environments = ['dev', 'uat', 'prod'] as const;
type Environment = (typeof environments)[number];

type Event =
  | { kind: 'publish' }
  | { kind: 'promote'; to: 'uat' | 'prod' }
  | { kind: 'rollback'; environment: Environment; line: boolean }
  | { kind: 'evidence' };

/** What happens in one of two worlds alone, and must change nothing that both have. */
type Disturbance =
  /** The build of a pull request, which asks for a version too. */
  | { kind: 'pull-request'; at: number; asks: boolean }
  | { kind: 'move'; environment: Environment }
  /** Somebody removes a tag by hand, and it is restored. */
  | { kind: 'tamper'; environment: Environment; component: string; tag: number }
  /** What is served is mended. */
  | { kind: 'again'; to: 'uat' | 'prod' };

const event: fc.Arbitrary<Event> = fc.oneof(
  { weight: 4, arbitrary: fc.constant({ kind: 'publish' as const }) },
  {
    weight: 4,
    arbitrary: fc.record({
      kind: fc.constant('promote' as const),
      to: fc.constantFrom('uat' as const, 'prod' as const),
    }),
  },
  {
    weight: 2,
    arbitrary: fc.record({
      kind: fc.constant('rollback' as const),
      environment: fc.constantFrom(...environments),
      line: fc.boolean(),
    }),
  },
  { weight: 2, arbitrary: fc.constant({ kind: 'evidence' as const }) },
);

const disturbance: fc.Arbitrary<Disturbance> = fc.oneof(
  {
    weight: 2,
    arbitrary: fc.record({ kind: fc.constant('pull-request' as const), at: fc.nat(20), asks: fc.boolean() }),
  },
  fc.record({ kind: fc.constant('move' as const), environment: fc.constantFrom(...environments) }),
  fc.record({
    kind: fc.constant('tamper' as const),
    environment: fc.constantFrom(...environments),
    component: fc.constantFrom(...components),
    tag: fc.nat(20),
  }),
  fc.record({ kind: fc.constant('again' as const), to: fc.constantFrom('uat' as const, 'prod' as const) }),
);

/** One of two worlds. */
class Twin {
  private next = 0;
  private count = 0;

  constructor(
    readonly world: DeliveryWorld,
    /** What branches of the product hold, and what pull requests do. */
    private readonly own: readonly Commit[],
    private readonly theirs: readonly Commit[],
  ) {}

  act(each: Event): Promise<string> {
    const { world } = this;
    this.count += 1;
    switch (each.kind) {
      case 'publish': {
        const commit = this.own[Math.min(this.next, this.own.length - 1)];
        this.next += 1;
        return commit === undefined ? Promise.resolve('done') : outcome(world.publish(commit));
      }
      case 'promote':
        return outcome(world.promote(steps[each.to]));
      case 'rollback':
        return outcome(world.rollback(each.environment, `reason ${this.count}`, each.line ? { lane: 'line 1.1' } : {}));
      case 'evidence':
        return outcome(this.record());
    }
  }

  async disturb(each: Disturbance): Promise<string> {
    const { world } = this;
    switch (each.kind) {
      case 'pull-request': {
        const commit = this.theirs[each.at % Math.max(1, this.theirs.length)];
        return commit === undefined
          ? 'done'
          : outcome(world.publish(each.asks ? commit : { ...commit, version: { kind: 'none', near: [] } }));
      }
      case 'move':
        return outcome(world.move(each.environment, world.otherHost(each.environment)));
      case 'tamper': {
        const tags = [...world.tagsOf(each.environment, each.component).keys()].sort();
        const tag = tags[each.tag % tags.length];
        if (tag !== undefined) {
          world.tamper(each.environment, each.component, tag, undefined);
        }
        return outcome(world.restore(each.environment));
      }
      case 'again':
        return outcome(world.promote(steps[each.to], { servedBy: each.to, isFirst: false }));
    }
  }

  /**
   * What environments serve, and where their moving tags lead; without those of pull requests. A tag that is to go may stand at
   * something that was not withdrawn, where the environment comes back to.
   */
  stands(): unknown {
    return environments.map((environment) => {
      const served = servedIn(this.world.facts, environment);
      const tagsOf = ({ component, repository }: { component: string; repository: RepositoryName }) =>
        [...this.world.tagsOf(environment, component)]
          .filter(([tag]) => !isFixed(tag) && !this.theirs.some(({ branch }) => branch === tag))
          .filter(([tag]) => this.world.facts.get('tag', tagKey(repository, tag))?.gone !== true)
          .sort();
      return {
        environment,
        served: served.map((each) => [each.component, each.digest, each.version, each.commit, tagsOf(each)]).sort(),
      };
    });
  }

  private async record(): Promise<void> {
    const choice = { servedBy: 'uat', isFirst: false, checkout: undefined };
    const result = { kind: 'result', name: 'smoke', passed: true, link: undefined } as const;
    await this.world.record({ choice, environment: 'uat', said: result }, 'ci');
    await this.world.record({ choice, environment: 'prod', said: { kind: 'signed-off' } }, 'ole');
  }
}

/** Two worlds in which the same happens, and pull requests, moves and damage in one alone: both stand alike after every step. */
export function twinsModel(): Model {
  const seen = new Set<string>();
  return modelOf(
    'twins',
    fc.asyncProperty(
      fc.array(change, { minLength: 12, maxLength: 12 }),
      fc.array(fc.tuple(fc.option(disturbance, { freq: 2 }), event), { minLength: 16, maxLength: 24, size: 'max' }),
      async (changes, events) => {
        const commits = historyOf(changes);
        const isOwn = ({ pullRequest, branch }: Commit): boolean => pullRequest !== true && branch !== 'work';
        const [own, theirs] = [commits.filter(isOwn), commits.filter((each) => !isOwn(each))];
        const twin = () =>
          new Twin(new DeliveryWorld(commits, worldEnvironments, () => Promise.resolve()), own, theirs);
        const [disturbed, calm] = [twin(), twin()];
        for (const [disturbing, each] of events) {
          if (disturbing !== null) {
            seen.add(`${disturbing.kind} ${await disturbed.disturb(disturbing)}`);
          }
          const outcomes = [await disturbed.act(each), await calm.act(each)];
          same([each, outcomes[0]], [each, outcomes[1]]);
          seen.add(`${each.kind} ${outcomes[0] ?? ''}`);
          same(disturbed.stands(), calm.stands());
        }
      },
    ),
    () => {
      for (const each of [
        'pull-request done',
        'pull-request not-followed',
        'move done',
        'tamper done',
        'again done',
        'promote done',
        'rollback done',
      ]) {
        ok(seen.has(each), `${each}: ${[...seen].join(', ')}`);
      }
    },
  );
}
