import { describeDuration } from '../../amounts';
import {
  rulesOf,
  wayTo,
  type AttestationRule,
  type EnvironmentRules,
  type ProductRules,
  type ResultRule,
} from '../../ledger/rules';
import { namesOfSigner } from '../../trust/people';
import { describeKey } from '../../trust/public-key';
import type { TrustRules } from '../../trust/trust-rules';
import { sha256, shortDigest } from '../../oci/digest';
import { describeWindow } from './freeze-window';

/** Returns what differs between the rules in force for what comes into an environment and those of a checkout, in words. */
export function differencesInto(environment: string, inForce: ProductRules, here: ProductRules): string[] {
  const [theirs, ours] = [inForce, here].map((rules) => describeRules(environment, rules));
  if (theirs === undefined || theirs.size === 0 || ours === undefined) {
    return [];
  }
  const topics = [...new Set([...theirs.keys(), ...ours.keys()])];
  return topics
    .filter((topic) => theirs.get(topic) !== ours.get(topic))
    .map((topic) => `${topic}: ${theirs.get(topic) ?? 'none'} in force, ${ours.get(topic) ?? 'none'} here`);
}

/** The rules that decide what comes into an environment, topic by topic; empty where they do not have it. */
function describeRules(environment: string, rules: ProductRules): Map<string, string> {
  const own = rulesOf(rules, environment);
  return own === undefined
    ? new Map<string, string>()
    : new Map([
        ['way', wayTo(rules, environment).join(' → ')],
        ...(own.receives === undefined ? [] : [['receives', own.receives] as const]),
        ...(own.after === null && own.receives === undefined
          ? []
          : [
              ...followed(rules),
              ...describeGates(own),
              ...describeTrust(own, rules.trust),
              ...describeGroups(own, rules),
            ]),
      ]);
}

/** The branches whose builds take over the first environment, and so come on to the others. */
function followed({ environments: [first] }: ProductRules): [string, string][] {
  return first?.follows === undefined ? [] : [['follows', first.follows.join(', ')]];
}

function describeGates({ takes, tags = [], gates }: EnvironmentRules): [string, string][] {
  const { results, resultRules = [], soak, freeze, platforms, annotations, referrers, attested = [], served } = gates;
  const lists: [string, readonly string[]][] = [
    ['takes', takes ?? []],
    ['tags', tags],
    ['results', results.map((name) => describeResult(resultRules.find((each) => each.name === name) ?? { name }))],
    ['freeze', freeze.map(describeWindow)],
    ['platforms', platforms],
    ['annotations', annotations],
    ['referrers', referrers],
    ['attested', attested.map(describeAttestation)],
  ];
  return [
    ...lists.flatMap(([topic, all]): [string, string][] => (all.length === 0 ? [] : [[topic, all.join(', ')]])),
    ...(served === undefined ? [] : [['served', served] as [string, string]]),
    ...describeSignOffs(gates),
    ...(soak === 0 ? [] : [['soak', describeDuration(soak)] as [string, string]]),
    ...(gates.signedCommit === undefined ? [] : [['signed-commit', 'true'] as [string, string]]),
  ];
}

/** Returns a rule about a result as one text. */
export function describeResult({ name, atMost, noOlderThan, except = [] }: ResultRule): string {
  const limits = Object.entries(atMost ?? {}).map(([severity, count]) => `${count} ${severity} at most`);
  const more = [
    ...limits,
    ...(noOlderThan === undefined ? [] : [`no older than ${describeDuration(noOlderThan)}`]),
    ...except.map(({ id, until }) => `except ${id} until ${until.slice(0, 10)}`),
  ];
  return more.length === 0 ? name : `${name} (${more.join('; ')})`;
}

function describeSignOffs({ signOffs, signOffsFrom, signOffsProven }: EnvironmentRules['gates']): [string, string][] {
  const from = signOffsFrom === undefined ? '' : ` from ${signOffsFrom.join(', ')}`;
  return signOffs === 0 ? [] : [['sign-offs', `${signOffs}${from}${signOffsProven === true ? ', signed' : ''}`]];
}

/** A rule about signed statements as one text: what must be signed, by whom, and with which fields. */
function describeAttestation({ type, by, where, noOlderThan, dated, each }: AttestationRule): string {
  return [
    `${type} by ${by.join(' or ')}`,
    ...where.map(({ field, values }) => `${field} ${values.join(' or ')}`),
    ...(noOlderThan === undefined ? [] : [`no older than ${describeDuration(noOlderThan)}`]),
    ...(dated === undefined ? [] : [`dated ${dated}`]),
    ...(each === undefined ? [] : ['for each platform']),
  ].join('; ');
}

/** Those who are trusted, as far as the gates of an environment rely on them. */
function describeTrust({ gates }: EnvironmentRules, trust: TrustRules | undefined): [string, string][] {
  const names = new Set((gates.attested ?? []).flatMap(({ by }) => by));
  const signers = [...names]
    .sort()
    .map((name): [string, string] => [
      `trust ${name}`,
      [
        ...(trust?.keys ?? [])
          .filter((key) => key.name === name)
          .map((key) =>
            [
              describeKey(key),
              ...(key.from === undefined ? [] : [`from ${key.from}`]),
              ...(key.until === undefined ? [] : [`until ${key.until}`]),
            ].join(' '),
          ),
        ...(trust?.authorities ?? [])
          .filter((authority) => authority.name === name)
          .map(({ certificates, names: of }) => `authority ${shortDigest(sha256(certificates))} for ${of.join(', ')}`),
      ].join(', ') || 'nobody',
    ]);
  const people: [string, string][] =
    gates.signedCommit === undefined && gates.signOffsProven === undefined
      ? []
      : [['trust people', (trust?.people ?? []).map(describePerson).sort().join(', ') || 'nobody']];
  const issuers: [string, string][] =
    gates.signOffsProven === undefined
      ? []
      : (trust?.issuers ?? []).map(({ name, url, audience, subjects }) => [
          `trust ${name}`,
          `issuer ${url} for ${audience}: ${subjects.join(', ')}`,
        ]);
  return [...signers, ...people, ...issuers];
}

/** The groups whose people may sign off for an environment. */
function describeGroups({ gates }: EnvironmentRules, { groups = [] }: ProductRules): [string, string][] {
  return (gates.signOffsFrom ?? []).map((name) => [
    `group ${name}`,
    groups.find((each) => each.name === name)?.people.join(', ') ?? 'nobody',
  ]);
}

function describePerson(line: string): string {
  return `${namesOfSigner(line)} ${shortDigest(sha256(line))}`;
}
