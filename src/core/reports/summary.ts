import * as z from 'zod';
import { digestSchema, type Digest } from '../oci/digest';
import { timestampSchema } from '../time';
import { countBySeverity, reportFormats, severities, type Report, type Severity } from './report';

const counts = z.object({
  critical: z.number().int().optional(),
  high: z.number().int().optional(),
  medium: z.number().int().optional(),
  low: z.number().int().optional(),
  unknown: z.number().int().optional(),
  none: z.number().int().optional(),
});

/** What the ledger keeps of a report. */
export const reportSummarySchema = z.object({
  /** Of the report itself, which is in the registry. */
  digest: digestSchema,
  format: z.enum(reportFormats),
  tool: z.string().optional(),
  /** When the tool ended. */
  at: timestampSchema.optional(),
  findings: z.array(z.object({ id: z.string(), severity: z.enum(severities), count: z.number().int() })).optional(),
  /** How many more findings there are, by severity, where there are too many to keep each. */
  more: counts.optional(),
  tests: z.object({ passed: z.number().int(), failed: z.number().int(), skipped: z.number().int() }).optional(),
});
export type ReportSummary = z.infer<typeof reportSummarySchema>;

/** So many findings are kept by their ids, the worst first. */
const mostKept = 500;
/** The longest name of a tool or a finding that is kept. */
const longest = 200;

/** Returns what the ledger keeps of a report. */
export function summaryOf({ format, tool, at, findings, tests }: Report, digest: Digest): ReportSummary {
  const sorted =
    findings && [...findings].sort((a, b) => severities.indexOf(a.severity) - severities.indexOf(b.severity));
  const kept = sorted?.slice(0, mostKept).map((each) => ({ ...each, id: each.id.slice(0, longest) }));
  const left = sorted?.slice(mostKept) ?? [];
  return {
    digest,
    format,
    tool: tool?.slice(0, longest),
    at,
    findings: kept,
    more: left.length === 0 ? undefined : Object.fromEntries(countBySeverity(left)),
    tests,
  };
}

/** Whether what a report says has passed where no rule of an environment says more: no test failed, nothing critical or high was found. */
export function hasPassed({ findings = [], tests }: Report): boolean {
  const bad: readonly Severity[] = ['critical', 'high'];
  return tests === undefined
    ? !findings.some(({ severity }) => bad.includes(severity))
    : tests.failed === 0 && tests.passed > 0;
}

/** Counts the findings of a report by severity, those that are kept by their ids and those that are not; without some of the former. */
export function severityCounts(
  { findings = [], more = {} }: Pick<ReportSummary, 'findings' | 'more'>,
  excused: ReadonlySet<string> = new Set(),
): Map<Severity, number> {
  const counts = countBySeverity(findings.filter(({ id }) => !excused.has(id)));
  severities.forEach((severity) => counts.set(severity, (counts.get(severity) ?? 0) + (more[severity] ?? 0)));
  return counts;
}
