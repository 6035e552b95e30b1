import type { Timestamp } from '../time';

/** How bad a finding is, the worst first; `unknown`: the report does not say. */
export const severities = ['critical', 'high', 'medium', 'low', 'unknown', 'none'] as const;
export type Severity = (typeof severities)[number];

/** Something that a tool found, as often as it found it. */
export interface ReportFinding {
  /** The name of the rule, or of the weakness. */
  readonly id: string;
  readonly severity: Severity;
  readonly count: number;
}

/** What a tool says in its report. */
export interface Report {
  readonly format: ReportFormat;
  /** Its name and version, as far as the report says. */
  readonly tool: string | undefined;
  /** When the tool ended; undefined where the report does not say. */
  readonly at: Timestamp | undefined;
  /** Undefined for a report of tests. */
  readonly findings: readonly ReportFinding[] | undefined;
  /** Undefined for a report of findings. */
  readonly tests: TestCounts | undefined;
}

/** How many tests ended how. */
export interface TestCounts {
  readonly passed: number;
  readonly failed: number;
  readonly skipped: number;
}

/** The formats of reports. */
export const reportFormats = ['sarif', 'junit', 'cyclonedx'] as const;
export type ReportFormat = (typeof reportFormats)[number];

/** Their media types. */
export const reportTypes: Readonly<Record<ReportFormat, string>> = {
  sarif: 'application/sarif+json',
  junit: 'application/junit+xml',
  cyclonedx: 'application/vnd.cyclonedx+json',
};

/** A report that was read, or why it cannot be. */
export type ReportReading = { readonly report: Report } | { readonly problem: string };

/** Counts findings by severity. */
export function countBySeverity(findings: readonly ReportFinding[]): Map<Severity, number> {
  const counts = new Map<Severity, number>();
  findings.forEach(({ severity, count }) => counts.set(severity, (counts.get(severity) ?? 0) + count));
  return counts;
}

/** Adds up findings of one id and severity. */
export function merged(findings: readonly Omit<ReportFinding, 'count'>[]): ReportFinding[] {
  const counts = new Map<string, ReportFinding>();
  for (const { id, severity } of findings) {
    const key = `${severity} ${id}`;
    counts.set(key, { id, severity, count: (counts.get(key)?.count ?? 0) + 1 });
  }
  return [...counts.values()];
}
