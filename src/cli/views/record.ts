import { formatCount } from '../../core/amounts';
import type { ResultResult, RulesResult, SignOffResult } from '../../results/record';
import type { Screen } from '../answer';
import { releaseTitle } from './delivery';
import type { Style } from './style';

/** What `record result` answers to people. */
export function resultView(result: ResultResult, { style }: Screen): string {
  const { name, passed, environment, by, link, report } = result;
  const outcome = passed ? style.good('passed') : style.bad('failed');
  const title = `${verbOf(result)}: ${style.strong(name)} ${outcome} in ${environment}, says ${by}`;
  return [
    title,
    ...releaseLines(result, style),
    ...(report === null ? [] : [`  ${reportText(report)}`]),
    ...(link === null ? [] : [`  ${link}`]),
  ].join('\n');
}

/** What a report says: the tool, when, and how much of each. */
function reportText({ format, tool, at, findings, tests }: NonNullable<ResultResult['report']>): string {
  const counts = Object.entries(findings ?? {}).flatMap(([severity, count]) =>
    count === 0 ? [] : [`${count} ${severity}`],
  );
  const said =
    tests === null
      ? counts.join(', ') || 'no findings'
      : `${formatCount(tests.passed, 'test')} passed, ${tests.failed} failed, ${tests.skipped} skipped`;
  return `${tool ?? format}: ${said}${at === null ? '' : `, ${at}`}`;
}

/** What `record sign-off` answers to people. */
export function signOffView(result: SignOffResult, { style }: Screen): string {
  const { environment, by } = result;
  return [
    `${verbOf(result)}: it may enter ${style.strong(environment)}, says ${by}`,
    ...releaseLines(result, style),
  ].join('\n');
}

/** What `record rules` answers to people. */
export function rulesView(result: RulesResult, { style }: Screen): string {
  const { environment, by, differences, accepted, needed, inForce } = result;
  if (differences.length === 0 && !result.isNew) {
    return `Nothing to do: the rules of this hod.yaml are in force for ${style.strong(environment)}.`;
  }
  const missing = needed - accepted.length;
  return [
    `${verbOf(result)}: ${by} accepts the rules of this hod.yaml for ${style.strong(environment)}`,
    ...differences.map((each) => `  ${each}`),
    inForce
      ? `  ${style.good('in force')} for ${environment}: accepted by ${accepted.join(', ')}`
      : `  ${style.notice('not in force yet')}: ${accepted.length} of ${needed} accept them (${accepted.join(', ')}); ${formatCount(missing, 'more person', 'more people')} must run the same command`,
  ].join('\n');
}

function verbOf({ isNew, dryRun }: Pick<SignOffResult, 'isNew' | 'dryRun'>): string {
  return dryRun ? 'Would record' : isNew ? 'Recorded' : 'Nothing to do, the ledger knows';
}

function releaseLines({ product, releases }: SignOffResult, style: Style): string[] {
  return releases.map(({ version, commit, components }) => {
    return `  of ${releaseTitle({ product, version, commit }, style)}  ${style.faint(components.join(', '))}`;
  });
}
