import { grouped } from '../../core/grouped';
import { formatCount } from '../../core/amounts';
import { shortDigest } from '../../core/oci/digest';
import type { LedgerAcceptResult, LedgerCompactResult, LedgerCopyResult, LedgerResult } from '../../results/ledger';
import type { Screen } from '../answer';
import { shortCommit } from '../../core/commit';
import type { RebuildResult } from '../../results/rebuild';

/** What `ledger verify` answers to people. */
export function ledgerView(
  { product, ledger, entries, head, facts, signatures, compacted }: LedgerResult,
  { style }: Screen,
): string {
  const isWhole = signatures?.unsigned.every(({ accepted }) => accepted !== null) ?? true;
  const last = head === null ? '' : `, the last ${shortDigest(head)}`;
  return [
    `${isWhole ? style.good('Intact:') : style.notice('Intact, but not all signed:')} the ledger of ${style.strong(product)} in ${ledger}`,
    `  ${count(entries, 'entry', 'entries')} in one chain${last}`,
    `  ${formatCount(facts, 'fact')}, ${compacted?.read === false ? 'each as its entry set it' : 'all of them as the entries add up'}`,
    ...(compacted === null ? [] : compactedLines(compacted, style)),
    ...(signatures === null ? [] : signatureLines(signatures, style)),
  ].join('\n');
}

function signatureLines(
  { since, signers, unsigned }: NonNullable<LedgerResult['signatures']>,
  style: Screen['style'],
): string[] {
  const range = (from: number, to: number): string => (from === to ? `entry ${from}` : `entries ${from} to ${to}`);
  return [
    since === null ? '  no entry is signed' : `  signed since entry ${since}`,
    ...signers.map(
      ({ by, key, entries, first, last }) =>
        `    ${style.strong(by)} (${key}) signed ${count(entries, 'entry', 'entries')}, from ${first} to ${last}`,
    ),
    ...unsigned.map(({ from, to, problem, accepted }) =>
      accepted === null
        ? `    ${style.bad('not signed:')} ${range(from, to)}: ${problem}`
        : `    ${style.notice('accepted:')} ${range(from, to)}, by ${accepted.by}: ${accepted.reason}`,
    ),
  ];
}

function compactedLines(
  { entries, files, read }: NonNullable<LedgerResult['compacted']>,
  style: Screen['style'],
): string[] {
  const names = files.map(({ file }) => file);
  return [
    `  ${count(entries, 'entry is', 'entries are')} in ${names.length === 1 ? 'a file' : `${names.length} files`}: ${names.join(', ')}`,
    read
      ? '    they were read and checked, too'
      : style.notice(`    only their hashes were checked; --compacted ${names.join(' ')} checks all of them`),
  ];
}

/** What `ledger compact` answers to people. */
export function compactView(result: LedgerCompactResult, { style }: Screen): string {
  const { product, ledger, file, dryRun, before, entries, kept } = result;
  if (entries === 0) {
    return [
      `Nothing to move: ${style.strong(product)} needs all its entries`,
      style.faint(
        `  entries move once tidying has removed their release, and nothing was recorded about it since ${before.slice(0, 10)}`,
      ),
    ].join('\n');
  }
  const moved = `${style.strong(count(entries, 'entry', 'entries'))} of ${style.strong(product)} from ${ledger} to ${file}`;
  return [
    `${dryRun ? 'Would move' : 'Moved'} ${moved}; ${kept} stay`,
    ...(dryRun
      ? []
      : [style.faint('  Keep the file: `hod ledger export` and a complete `hod ledger verify` need it.')]),
  ].join('\n');
}

/** What `ledger accept` answers to people. */
export function acceptView({ dryRun, by, from, to, entries }: LedgerAcceptResult, { style }: Screen): string {
  if (from === null) {
    return 'Nothing to accept: a trusted key signed every entry, or somebody accepted it before';
  }
  const range =
    from === to ? `entry ${from}` : `${count(entries, 'unsigned entry', 'unsigned entries')}, ${from} to ${to ?? from}`;
  return dryRun ? `Would accept ${range}` : `${style.good('Accepted:')} ${range}, by ${by}`;
}

/** What `ledger export` answers to people. */
export function exportView({ product, to, written }: LedgerCopyResult, { style }: Screen): string {
  return `Wrote ${count(written, 'entry', 'entries')} of ${style.strong(product)} to ${to}`;
}

/** What `ledger import` answers to people. */
export function importView(result: LedgerCopyResult, { style }: Screen): string {
  const { product, from, to, dryRun, written, present } = result;
  const there = present === 0 ? '' : `; ${present} were there already`;
  const verb = dryRun ? 'Would add' : 'Added';
  return `${verb} ${count(written, 'entry', 'entries')} of ${style.strong(product)} from ${from} to ${to}${there}`;
}

/** What `ledger rebuild` answers to people. */
export function rebuildView(result: RebuildResult, { style }: Screen): string {
  const { product, ledger, dryRun, entries, releases, environments, notRecovered } = result;
  const verb = dryRun ? 'Would make' : 'Made';
  return [
    `${verb} a ledger of ${style.strong(product)} in ${ledger}: ${formatCount(releases, 'release')}, ${count(entries, 'entry', 'entries')}`,
    ...environments.map(({ environment, serves }) => {
      const groups = grouped(serves, ({ version, commit }) => version ?? shortCommit(commit));
      const names = groups.map((group) => {
        const [{ version, commit }] = group;
        return `${version ?? shortCommit(commit)} (${group.map(({ component }) => component).join(', ')})`;
      });
      return `  ${style.strong(environment)} serves ${names.join('; ') || 'nothing'}`;
    }),
    style.notice('What the registries do not tell:'),
    ...notRecovered.map(({ what, detail }) => `  ${what}: ${detail}`),
  ].join('\n');
}

function count(number: number, one: string, many: string): string {
  return `${number} ${number === 1 ? one : many}`;
}
