import type { ResultResult, SignOffResult } from '../../results/record';
import type { Screen } from '../answer';
import { releaseTitle } from './delivery';
import type { Style } from './style';

/** What `record result` answers to people. */
export function resultView(result: ResultResult, { style }: Screen): string {
  const { name, passed, environment, by, link } = result;
  const outcome = passed ? style.good('passed') : style.bad('failed');
  const title = `${verbOf(result)}: ${style.strong(name)} ${outcome} in ${environment}, says ${by}`;
  return [title, ...releaseLines(result, style), ...(link === null ? [] : [`  ${link}`])].join('\n');
}

/** What `record sign-off` answers to people. */
export function signOffView(result: SignOffResult, { style }: Screen): string {
  const { environment, by } = result;
  return [
    `${verbOf(result)}: it may enter ${style.strong(environment)}, says ${by}`,
    ...releaseLines(result, style),
  ].join('\n');
}

function verbOf({ isNew, dryRun }: SignOffResult): string {
  return dryRun ? 'Would record' : isNew ? 'Recorded' : 'Nothing to do, the ledger knows';
}

function releaseLines({ product, releases }: SignOffResult, style: Style): string[] {
  return releases.map(({ version, commit, components }) => {
    return `  of ${releaseTitle({ product, version, commit }, style)}  ${style.faint(components.join(', '))}`;
  });
}
