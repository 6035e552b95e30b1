import { shortCommit } from '../../core/commit';
import type { ResultResult, SignOffResult } from '../../results/record';
import type { Look } from '../answer';

/** What `record result` answers to people. */
export function resultView(result: ResultResult, { style }: Look): string {
  const { name, passed, environment, by, link } = result;
  const outcome = passed ? style.good('passed') : style.bad('failed');
  const title = `${verbOf(result)}: ${style.strong(name)} ${outcome} in ${environment}, says ${by}`;
  return [title, ...releaseLines(result, style.faint), ...(link === null ? [] : [`  ${link}`])].join('\n');
}

/** What `record sign-off` answers to people. */
export function signOffView(result: SignOffResult, { style }: Look): string {
  const { environment, by } = result;
  return [
    `${verbOf(result)}: it may enter ${style.strong(environment)}, says ${by}`,
    ...releaseLines(result, style.faint),
  ].join('\n');
}

function verbOf({ isNew, dryRun }: SignOffResult): string {
  return dryRun ? 'Would record' : isNew ? 'Recorded' : 'Nothing to do, the ledger knows';
}

function releaseLines({ product, releases }: SignOffResult, faint: (text: string) => string): string[] {
  return releases.map(({ version, commit, images }) => {
    const name = version === null ? product : `${product} ${version}`;
    return `  of ${name} (${shortCommit(commit)})  ${faint(images.join(', '))}`;
  });
}
