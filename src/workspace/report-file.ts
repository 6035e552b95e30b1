import { HodError, messageOf } from '../core/errors';
import { sha256 } from '../core/oci/digest';
import { readReport } from '../core/reports/read';
import type { Report } from '../core/reports/report';
import { summaryOf, type ReportSummary } from '../core/reports/summary';
import { openPlainFile } from '../system/plain-files';

/** A report: its bytes, and what they say. */
export interface ReportFile {
  readonly path: string;
  readonly bytes: Uint8Array;
  readonly report: Report;
  readonly summary: ReportSummary;
}

/**
 * The report is held in memory.
 * @limit a test report | bytes | `report-unusable`
 */
const largest = 32 * 1024 * 1024;

/** Reads a report in SARIF, JUnit or CycloneDX. Throws `report-unusable`. */
export async function readReportFile(path: string): Promise<ReportFile> {
  const bytes = await bytesOf(path);
  const read = readReport(bytes);
  if ('problem' in read) {
    throw unusable(path, read.problem);
  }
  return { path, bytes, report: read.report, summary: summaryOf(read.report, sha256(bytes)) };
}

async function bytesOf(path: string): Promise<Uint8Array> {
  try {
    const { handle, size } = await openPlainFile(path);
    try {
      if (size > largest) {
        throw unusable(path, `it has ${size} bytes, and at most ${largest} are read`);
      }
      return await handle.readFile();
    } finally {
      await handle.close();
    }
  } catch (error) {
    throw error instanceof HodError ? error : unusable(path, messageOf(error));
  }
}

function unusable(object: string, why: string): HodError {
  return new HodError('report-unusable', {
    what: 'this report cannot be read',
    object,
    why,
    next: 'let the tool write SARIF 2.1.0, JUnit XML, or CycloneDX 1.5 JSON with its vulnerabilities; nothing was recorded',
  });
}
