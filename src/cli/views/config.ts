import { formatCount } from '../../core/amounts';
import { describeDuration } from '../../core/amounts';
import type { ConfigCheckResult, ConfigCompareResult, ConfigShowResult } from '../../results/config';
import type { Screen } from '../answer';
import type { Style } from './style';
import { columns } from './format';
import { shortDigest } from '../../core/oci/digest';

/** What `config check` answers to people. */
export function configView(
  { file, product, images, bundles, includes, pushed, environments, warnings }: ConfigCheckResult,
  { style }: Screen,
): string {
  const parts = [
    named(images, 'image'),
    ...(bundles.length === 0 ? [] : [named(bundles, 'bundle')]),
    ...(includes.length === 0 ? [] : [named(includes, 'included component')]),
  ];
  const all = [parts.slice(0, -1).join(', '), parts.at(-1)].filter((part) => part !== '').join(' and ');
  const way = environments.join(' → ');
  return [
    `${style.good('Valid:')} ${file} releases ${all} of ${style.strong(product)}, through ${way}.`,
    ...pushed.map(({ component, reference }) => `${component} is read in a registry: ${reference}`),
    ...warnings.map((warning) => `${style.notice('Warning:')} ${warning}`),
  ].join('\n');
}

function named(names: readonly string[], noun: string): string {
  return `${formatCount(names.length, noun)} (${names.join(', ')})`;
}

/** What `config compare` answers to people. */
export function configCompareView({ file, environments }: ConfigCompareResult, { style }: Screen): string {
  return environments
    .map(({ environment, inForce, differences, accepted, reason }) => {
      const name = style.strong(environment);
      if (inForce === null) {
        return `${name}  no rules are in force yet; the next release brings those of ${file} into force`;
      }
      const from = inForce.source === null ? '' : `, from ${inForce.source.branch} of ${inForce.source.remote}`;
      const of = inForce.commit === null ? '' : ` (commit ${inForce.commit.slice(0, 12)}${from})`;
      if (differences.length === 0) {
        return `${name}  ${style.good('same as the rules in force')}${of}`;
      }
      const outcome = accepted
        ? `${style.notice('a promotion from this checkout')} brings these rules into force`
        : `${style.bad('promotions from this checkout are refused')}: ${reason ?? ''}`;
      return [
        `${name}  ${style.notice('differs from the rules in force')}${of}`,
        ...differences.map((each) => `  ${each}`),
        `  ${outcome}`,
      ].join('\n');
    })
    .join('\n');
}

/** What `config show` answers to people. */
export function configShowView(result: ConfigShowResult, { style }: Screen): string {
  const { file, product, ledger, variables, includes, environments, announce, trust, sign, groups } = result;
  const parts = environments.map((each) => environmentPart(each, style));
  const told = announce.map(
    ({ receiver, url, kinds }) =>
      `${style.strong(receiver)}  is told at ${url ?? 'a secret address'}: ${kinds.join(', ')}`,
  );
  const included = includes.map(({ component, reference, served }) => {
    const from =
      served === null
        ? reference
        : `what ${served.environment} of ${served.product} serves${served.component === component ? '' : ` of ${served.component}`}, ledger ${served.ledger}`;
    return `${style.strong(component)}  is included: ${from ?? ''}`;
  });
  const filled = variables.map(({ name, value, env }) => {
    return [name, value, env === null ? 'as hod.yaml says' : `from ${env}`];
  });
  const head = [
    `${style.strong(product)}  ${file}, ledger ${ledger}`,
    ...columns(filled, '  ', (cell, column) => (column === 2 ? style.faint(cell) : cell)),
  ].join('\n');
  return [
    head,
    ...parts,
    ...trustPart(trust, style),
    ...(sign === null ? [] : [`${style.strong('sign')}\n  with ${sign}`]),
    ...groupsPart(groups, style),
    ...included,
    ...told,
  ].join('\n\n');
}

/** The gates of an environment: in a line where they are few, else one a line. */
function gateLines(gates: readonly string[]): string[] {
  return gates.length <= 3
    ? [`  gates: ${gates.join(', ') || 'none'}`]
    : ['  gates:', ...gates.map((each) => `    ${each}`)];
}

/** A rule about signed statements; its fields and its age in brackets. */
function attestationText({ type, by, where, noOlderThan, each }: Gates['attested'][number]): string {
  const more = [
    ...where.map(({ field, values }) => `${field} is ${values.join(' or ')}`),
    ...(noOlderThan === null ? [] : [`no older than ${describeDuration(noOlderThan)}`]),
    ...(each === null ? [] : ['for each platform']),
  ];
  return `${type} signed by ${by.join(' or ')}${more.length === 0 ? '' : ` (${more.join(', ')})`}`;
}
/** How many sign-offs are asked for, of whom, and whether they must be signed. */
function signOffText({ signOffs, signOffsFrom, signOffsProven }: Gates): string {
  const from = signOffsFrom.length === 0 ? '' : ` of ${signOffsFrom.join(' or ')}`;
  return `${formatCount(signOffs, signOffsProven ? 'signed sign-off' : 'sign-off')}${from}`;
}
type Gates = ConfigShowResult['environments'][number]['gates'];

/** Whose signatures count; nothing where nobody is named. */
function trustPart({ keys, authorities, issuers, people }: ConfigShowResult['trust'], style: Style): string[] {
  const rows = [
    ...keys.map(({ name, kind, digest, from, until }) => [
      name,
      `key, ${kind}`,
      [shortDigest(digest), from === null ? '' : `from ${from}`, until === null ? '' : `until ${until}`]
        .filter((text) => text !== '')
        .join(' '),
    ]),
    ...authorities.map(({ name, names }) => [name, 'authority', `for ${names.join(', ')}`]),
    ...issuers.map(({ name, url, audience, subjects }) => [
      name,
      'issuer',
      `${url}, audience ${audience}, for ${subjects.join(', ')}`,
    ]),
    ...(people.length === 0
      ? []
      : [['people', formatCount(people.length, 'SSH key'), [...new Set(people)].join(', ')]]),
  ];
  return rows.length === 0
    ? []
    : [
        [
          style.strong('trust'),
          ...columns(rows, '  ', (cell, column) => (column === 2 ? style.faint(cell) : cell)),
        ].join('\n'),
      ];
}

function groupsPart(groups: ConfigShowResult['groups'], style: Style): string[] {
  const rows = groups.map(({ name, people }) => [name, people.join(', ')]);
  return rows.length === 0 ? [] : [[style.strong('groups'), ...columns(rows, '  ', (cell) => cell)].join('\n')];
}

function environmentPart(
  {
    environment,
    after,
    follows,
    takes,
    receives,
    gates,
    components,
    referrers,
    keep,
  }: ConfigShowResult['environments'][number],
  style: Style,
): string {
  const usual = follows?.usual === true ? style.faint('  (the usual ones: `follows` can name others)') : '';
  const entry = [
    ...(gates.served === null ? [] : [`served by ${gates.served} of the other side`]),
    ...gates.results.map((name) => `result ${gates.resultRules.find((each) => each.name === name)?.rule ?? name}`),
    ...(gates.signOffs === 0 ? [] : [signOffText(gates)]),
    ...(gates.soak === 0 ? [] : [`soak ${describeDuration(gates.soak)}`]),
    ...gates.freeze.map((window) => `freeze ${window}`),
    ...(gates.platforms.length === 0 ? [] : [`platforms ${gates.platforms.join(' ')}`]),
    ...(gates.annotations.length === 0 ? [] : [`annotations ${gates.annotations.join(' ')}`]),
    ...(gates.referrers.length === 0 ? [] : [`referrers ${gates.referrers.join(' ')}`]),
    ...gates.attested.map(attestationText),
    ...(gates.signedCommit ? ['signed commit'] : []),
  ];
  const rows = components.map(({ component, repository, tags }) => [
    component,
    repository,
    tags.map(({ rule, tag }) => (tag === null || tag === rule ? rule : `${rule} = ${tag}`)).join(' '),
  ]);
  return [
    `${style.strong(environment)}${after === null ? '' : `  after ${after}`}`,
    ...(follows === null
      ? []
      : [`  ${receives === 'parcels' ? 'releases' : 'builds'} of ${follows.branches.join(', ')} take over${usual}`]),
    ...(takes === null ? [] : [`  takes releases of ${takes.join(', ')}`]),
    ...(receives === 'parcels' ? ['  receives parcels, and no builds'] : []),
    ...(receives === 'builds' ? [] : gateLines(entry)),
    ...(keep === null ? [] : [`  keeps ${keep}`]),
    ...(referrers.includes('all') ? [] : [`  carries referrers: ${referrers.join(', ')}`]),
    ...columns(rows, '  ', (cell, column) => (column === 1 ? cell : column === 2 ? style.faint(cell) : cell)),
  ].join('\n');
}
