import { deepStrictEqual as same, ok } from 'node:assert';
import fc from 'fast-check';
import { servedIn } from '../../src/core/ledger/environment';
import { tagKey, type Facts } from '../../src/core/ledger/facts';
import type { RepositoryName } from '../../src/core/oci/reference';
import { formatRepository, parseRepository } from '../../src/core/oci/reference';
import type { FoundContent } from '../../src/core/release/adoption';
import { showingTags } from '../../src/core/release/adoption-tags';
import type { RulesOf } from '../../src/core/tags/rules';
import { DeliveryWorld, product } from './delivery-world';
import { modelOf, type Model } from './model';
import {
  change,
  components,
  environments,
  event,
  historyOf,
  looks,
  names,
  playEvents,
  refusal,
  type Name,
} from './three-environments';

const repositoryOf = (environment: Name, component: string): RepositoryName =>
  formatRepository(parseRepository(`${environment}.test/skerry/${component}`));

/** What the tags of an environment lead to, and what the ledger that is to be lost says of it. */
function foundIn(world: DeliveryWorld, environment: Name): FoundContent[] {
  const rulesOf: RulesOf = () => environments[environment].rules;
  return components.flatMap((component) => {
    const tags = world.tagsOf(environment, component);
    const repository = repositoryOf(environment, component);
    const reading = { product, component, tags: new Set(tags.keys()), branches: ['main', 'support-1.1'] };
    const groups = new Map<string, { content: FoundContent }>();
    for (const { tag, branch } of showingTags(rulesOf(component), reading)) {
      const digest = tags.get(tag);
      const known = world.facts.get('tag', tagKey(repository, tag));
      if (digest === undefined || known?.digest !== digest || known.gone === true) {
        continue;
      }
      const release = world.facts.get('release', known.release);
      const placed = release?.components.find((each) => each.component === component);
      if (release === undefined || placed === undefined) {
        throw new Error('a tag of an unknown release');
      }
      const key = `${digest} ${release.release}`;
      const earlier = groups.get(key)?.content;
      const rule = environments[environment].rules.find(
        ({ kind, template }) => kind === 'moving' && template.text === tag,
      );
      const follows = rule?.kind === 'moving' ? rule.follows : branch === undefined ? 'release' : 'branch';
      const content: FoundContent = {
        placed: { ...placed, repository },
        holds: (release.images ?? []).filter((each) => each.component === component),
        ...{ commit: release.commit, version: release.version, branches: release.branches },
        branch: earlier?.branch ?? branch,
        isServed: earlier?.isServed ?? groups.size === 0,
        tags: [...(earlier?.tags ?? []), { component, repository, tag, kind: 'moving', digest }],
        follows: [...(earlier?.follows ?? []), follows],
      };
      groups.set(key, { content });
    }
    return [...groups.values()].map(({ content }) => content);
  });
}

/** What an environment serves. */
function standing(facts: Facts, environment: Name): object {
  const told = servedIn(facts, environment).map(({ component, digest, version, commit }) => [
    component,
    digest,
    version,
    commit,
  ]);
  return told.sort();
}

/**
 * Whether tags tell what an environment serves: of several followed branches the first is taken, and of releases without a version
 * only the tags of branches and environments tell.
 */
function tagsTell(world: DeliveryWorld, environment: Name): boolean {
  return servedIn(world.facts, environment).every(({ component, digest, version }) =>
    environment === 'dev'
      ? world.at('main', 'dev', component) === digest
      : environment === 'uat' || version !== undefined,
  );
}

/** An environment whose ledger is lost is adopted, and goes on as it would have. */
export function adoptionModel(): Model {
  const counts = { worlds: 0, compared: 0 };
  return modelOf(
    'adoption',
    fc.asyncProperty(
      fc.array(change, { minLength: 10, maxLength: 10 }),
      fc.array(event, { minLength: 6, maxLength: 18, size: 'max' }),
      fc.boolean(),
      async (changes, all, isCalm) => {
        const events = all.filter(({ kind }) => !isCalm || kind !== 'rollback');
        const commits = historyOf(changes);
        const world = new DeliveryWorld(commits, environments, () => Promise.resolve(), true);
        const next = await playEvents(events, commits, world);
        const there = names.filter((name) => servedIn(world.facts, name).length > 0);
        const adopted = world.fork([]);
        await adopted.adopt(
          there.map((environment) => ({ environment, from: null, contents: foundIn(world, environment) })),
        );
        counts.worlds += 1;
        // Of several followed branches the first is taken, and nothing tells that another took over.
        const shown = there.filter((name) => foundIn(world, name).length > 0);
        const told = shown.filter((name) => tagsTell(world, name));
        for (const name of told) {
          same(standing(adopted.facts, name), standing(world.facts, name));
        }
        const isBack = world.entries.some(({ entry: { action } }) => action.kind === 'rolled-back');
        if (isBack || told.length < there.length) {
          return;
        }
        for (const commit of [commits[next], commits[next + 1], commits[Math.max(0, next - 2)]].filter(
          (each) => each?.branch !== 'work',
        )) {
          const [old, made] = [world.fork(world.entries), world.fork(adopted.entries)];
          const [one, other] = [
            await refusal(commit === undefined ? Promise.resolve() : old.publish(commit)),
            await refusal(commit === undefined ? Promise.resolve() : made.publish(commit)),
          ];
          same({ outcome: other, ...looks(made) }, { outcome: one, ...looks(old) });
          counts.compared += 1;
        }
      },
    ),
    () => {
      ok(counts.compared > 10);
    },
  );
}
