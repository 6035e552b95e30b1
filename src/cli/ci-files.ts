import { HodError, messageOf } from '../core/errors';
import { appendToFile } from '../system/write-file';
import { outputLines, summaryTable, type CiReport } from './views/ci';

/** Where a CI wants to be told what was done. */
export interface CiFiles {
  summary?: string | undefined;
  outputs?: string | undefined;
}

/** Appends what was published or promoted to the files that a CI reads; `several`: of one product among others. */
export async function writeForCi(
  { summary, outputs }: CiFiles,
  report: CiReport,
  among: { readonly several: boolean },
): Promise<void> {
  await append(summary, '--summary', () => summaryTable(report));
  await append(outputs, '--outputs', () => outputLines(report, among));
}

async function append(file: string | undefined, option: string, text: () => string): Promise<void> {
  if (file === undefined) {
    return;
  }
  try {
    await appendToFile(file, `${text()}\n`);
  } catch (error) {
    throw new HodError(
      'file-unusable',
      {
        what: 'this file cannot be written',
        object: file,
        why: messageOf(error),
        next: `correct ${option} and run the command again; everything else is done`,
      },
      { cause: error },
    );
  }
}
