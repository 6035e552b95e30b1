import { servedIn } from '../ledger/environment';
import type { FactKey, Facts, Release } from '../ledger/facts';
import { contentId } from '../ledger/release';
import type { EnvironmentRules, ProductRules } from '../ledger/rules';
import { endOf } from '../release/gates/results';
import { describePosition } from '../tags/ordering';
import type { Timestamp } from '../time';

/** What grows old. */
export const expiringKinds = ['result', 'exception', 'key'] as const;

/** Something that an environment asks for, and that soon counts no more, or counts no more already. */
export interface Expiring {
  readonly kind: (typeof expiringKinds)[number];
  /** The environment that asks for it; undefined of a key, which is of the whole product. */
  readonly environment: string | undefined;
  /** The name of the result or the key, the id of the finding. */
  readonly name: string;
  /** Of a result: the version or commit that it is about. */
  readonly of: string | undefined;
  readonly until: Timestamp;
  readonly isOver: boolean;
}

/** Exceptions and keys are told of so long before their end, in milliseconds. */
const notice = 10 * 86_400_000;

/** The facts that say which releases wait where results grow old. */
export function expiringKeys(rules: ProductRules): FactKey[] {
  return agingInto(rules).flatMap(({ name, after }) =>
    [name, after ?? ''].map((key): FactKey => ({ kind: 'environment', key })),
  );
}

/** The releases that wait there: what the environment before serves, and this one does not. */
export function waitingIds(rules: ProductRules, facts: Facts): Release['release'][] {
  return [...new Set(agingInto(rules).flatMap((each) => waitingFor(each, facts)))];
}

function agingInto({ environments }: ProductRules): EnvironmentRules[] {
  return environments.filter(
    ({ after, gates }) => after !== null && gates.resultRules?.some(({ noOlderThan }) => noOlderThan !== undefined),
  );
}

function waitingFor({ name, after }: EnvironmentRules, facts: Facts): Release['release'][] {
  const served = new Set(servedIn(facts, name).map(({ release }) => release));
  const before = servedIn(facts, after ?? '').map(({ release }) => release);
  return [...new Set(before)].filter((release) => !served.has(release));
}

/**
 * Lists what grows old: results of releases that wait, exceptions and keys that end within ten days, and exceptions that ended. What
 * ends first comes first.
 *
 * @param facts Those of {@link expiringKeys}, the releases of {@link waitingIds}, and the evidence of their content.
 */
export function expiringIn(rules: ProductRules, facts: Facts, now: Timestamp): Expiring[] {
  const isSoon = (until: Timestamp): boolean => Date.parse(until) <= Date.parse(now) + notice;
  const isOver = (until: Timestamp): boolean => Date.parse(until) <= Date.parse(now);
  const results = agingInto(rules).flatMap((each) => resultsOf(each, facts));
  const exceptions = rules.environments.flatMap(({ name: environment, gates }) =>
    (gates.resultRules ?? []).flatMap(({ except = [] }) =>
      except.filter(({ until }) => isSoon(until)).map(({ id, until }) => ({ environment, name: id, until })),
    ),
  );
  const keys = (rules.trust?.keys ?? []).flatMap(({ name, until }) =>
    until === undefined || !isSoon(until) || isOver(until) ? [] : [{ environment: undefined, name, until }],
  );
  return [
    ...results.map((each) => ({ kind: 'result' as const, ...each })),
    ...exceptions.map((each) => ({ kind: 'exception' as const, of: undefined, ...each })),
    ...keys.map((each) => ({ kind: 'key' as const, of: undefined, ...each })),
  ]
    .map((each) => ({ ...each, isOver: isOver(each.until) }))
    .sort((a, b) => (a.until < b.until ? -1 : 1));
}

function resultsOf(
  environment: EnvironmentRules,
  facts: Facts,
): { environment: string; name: string; of: string; until: Timestamp }[] {
  const { name, after, gates } = environment;
  return waitingFor(environment, facts).flatMap((id) => {
    const release = facts.get('release', id);
    const results = release && facts.get('evidence', contentId(release.components))?.results;
    return (gates.resultRules ?? []).flatMap(({ name: result, noOlderThan }) => {
      const found = results?.find((each) => each.name === result && each.environment === after);
      return release === undefined || found === undefined || noOlderThan === undefined
        ? []
        : [{ environment: name, name: result, of: describePosition(release), until: endOf(found, noOlderThan) }];
    });
  });
}
