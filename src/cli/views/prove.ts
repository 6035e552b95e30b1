import { grouped } from '../../core/grouped';
import { formatBytes, formatCount } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import { shortDigest } from '../../core/oci/digest';
import type { ProveResult } from '../../results/prove';
import type { Screen } from '../answer';
import { nameList } from './components';

type Proof = ProveResult['environments'][number];

/** What was proved of each environment, and what is not so: a line each, and what to do. */
export function proveView({ product, environments, deep }: ProveResult, screen: Screen): string {
  return environments.map((each) => proofBlock(each, product, deep, screen)).join('\n\n');
}

function proofBlock(
  { environment, components, lines, looked, statements, signed, findings, notes }: Proof,
  product: string,
  deep: boolean,
  screen: Screen,
): string {
  const { style, verbose } = screen;
  const name = style.strong(environment);
  if (components.length === 0) {
    return `${name} serves nothing of ${product}: there is nothing to prove`;
  }
  const releases = grouped(
    [...components.map((each) => ({ line: '', ...each })), ...lines],
    ({ line, version, commit }) => [line, version, commit],
  ).map((group) => {
    const [{ line, version, commit }] = group;
    const what = version === null ? shortCommit(commit) : `${version} (${shortCommit(commit)})`;
    return `${what}${line === '' ? '' : ` on line ${line}`}: ${nameList(group)}`;
  });
  const counts = [
    formatCount(looked.manifests, 'manifest'),
    `${formatCount(looked.blobs, 'blob')} ${deep ? `read (${formatBytes(looked.bytes)})` : 'there'}`,
    formatCount(looked.tags, 'tag'),
    formatCount(looked.referrers, 'referrer'),
  ].join(', ');
  const title =
    findings.length === 0
      ? `${style.good('Proved:')} ${name} serves what was ${provenWords(components, notes)}`
      : `${style.bad('Not proved:')} ${name}: ${formatCount(findings.length, 'finding')}`;
  return [
    title,
    ...releases.map((text) => `  ${product} ${text}`),
    ...signedLines(signed),
    ...statementLines(statements, screen),
    ...findings.flatMap(({ finding, component, object, detail, remedy }) => [
      `  ${style.bad(finding)}  ${component === '' ? '' : `${component}  `}${shorten(object)}: ${shorten(detail)}`,
      `      ${remedy}`,
    ]),
    ...notes.map(({ note, object, detail }) =>
      style.faint(`  ${note === 'required-today' ? "today's rules also require: " : ''}${object}: ${detail}`),
    ),
    ...(verbose ? components.map(({ component, digest }) => style.faint(`  ${component} ${shortDigest(digest)}`)) : []),
    `${style.strong('Looked at:')} ${counts}`,
  ].join('\n');
}

/** Who signed how releases came here, a line for each key. */
function signedLines(signed: Proof['signed']): string[] {
  return grouped(signed, ({ by, key }) => [by, key]).map((group) => {
    const [{ by, key }] = group;
    const releases = grouped(group, ({ object }) => object).map((steps) => {
      return `${steps[0].object} into ${steps.map(({ environment, entry }) => `${environment} (entry ${entry})`).join(', ')}`;
    });
    return `  entries signed by ${by} (${key}): ${releases.join('; ')}`;
  });
}

/** Who signed the documents that refer to what is served: how many each, and those that do not count. */
function statementLines(statements: Proof['statements'], { style, verbose }: Screen): string[] {
  const counted = statements.filter(({ by }) => by !== null);
  const others = statements.filter(({ by }) => by === null);
  const about = ({ component, predicateType, referrer }: Proof['statements'][number]): string =>
    `${component}: ${predicateType ?? 'a signed document'} (${shortDigest(referrer)})`;
  return [
    ...grouped(counted, ({ by, detail }) => [by, detail]).flatMap((group) => [
      `  ${formatCount(group.length, 'statement')} signed by ${group[0].by ?? ''} (${shorten(group[0].detail)})`,
      ...(verbose ? group.map((each) => style.faint(`    ${about(each)}`)) : []),
    ]),
    ...others
      .slice(0, verbose ? others.length : othersTold)
      .map((each) => `  ${style.notice('not verified:')} ${about(each)}: ${shorten(each.detail)}`),
    ...(verbose || others.length <= othersTold
      ? []
      : [style.faint(`  and ${others.length - othersTold} more that are not verified; --verbose lists them`)]),
  ];
}

/** So many documents that nobody signed who is trusted are listed. */
const othersTold = 3;

/** How what is served came to be proved. */
function provenWords(components: Proof['components'], notes: Proof['notes']): string {
  if (components.some(({ adopted }) => adopted)) {
    return 'adopted';
  }
  return notes.some(({ note }) => note === 'parcel') ? 'published from a parcel' : 'published and tested';
}

/** A text with its digests in short. */
function shorten(text: string): string {
  return text.replace(/\bsha(?:256|512):[0-9a-f]{64,128}\b/g, shortDigest);
}
