import * as z from 'zod';
import type { ChosenRelease } from '../core/release/promotion';
import { reportFormats, type Severity } from '../core/reports/report';
import { severityCounts, type ReportSummary } from '../core/reports/summary';
import { digest } from './common';

const count = z.number().int();
const about = {
  product: z.string(),
  environment: z.string(),
  by: z.string(),
  dryRun: z.boolean(),
  /** False where the ledger knew it. */
  isNew: z.boolean(),
  /** The releases that it is about: its digests, and no others. */
  releases: z.array(
    z.strictObject({ version: z.string().nullable(), commit: z.string(), components: z.array(z.string()) }),
  ),
};

export const resultResultSchema = z.strictObject({
  ...about,
  name: z.string(),
  passed: z.boolean(),
  link: z.string().nullable(),
  /** What the report says that it was read from; null where there was none. */
  report: z
    .strictObject({
      digest,
      format: z.enum(reportFormats),
      tool: z.string().nullable(),
      /** When the tool ended. */
      at: z.string().nullable(),
      /** How many findings there are, by severity; null for a report of tests. */
      findings: z
        .strictObject({ critical: count, high: count, medium: count, low: count, unknown: count, none: count })
        .nullable(),
      tests: z.strictObject({ passed: count, failed: count, skipped: count }).nullable(),
    })
    .nullable(),
});
export type ResultResult = z.infer<typeof resultResultSchema>;

export const signOffResultSchema = z.strictObject(about);
export type SignOffResult = z.infer<typeof signOffResultSchema>;

export const rulesResultSchema = z.strictObject({
  product: z.string(),
  environment: z.string(),
  by: z.string(),
  dryRun: z.boolean(),
  /** False where the ledger knew it. */
  isNew: z.boolean(),
  /** The digest of the rules of this hod.yaml. */
  digest,
  /** What differs from the rules in force, in words; nothing where they are in force. */
  differences: z.array(z.string()),
  /** Who accepts them. */
  accepted: z.array(z.string()),
  /** How many people must accept them. */
  needed: z.number().int(),
  /** Whether they are in force for the environment now. */
  inForce: z.boolean(),
});
export type RulesResult = z.infer<typeof rulesResultSchema>;

/** What a report says, as a document. */
export function toReport(summary: ReportSummary | undefined): ResultResult['report'] {
  if (summary === undefined) {
    return null;
  }
  const { digest: own, format, tool, at, findings, tests } = summary;
  const counts = severityCounts(summary);
  const of = (severity: Severity): number => counts.get(severity) ?? 0;
  return {
    ...{ digest: own, format, tool: tool ?? null, at: at ?? null, tests: tests ?? null },
    findings:
      findings === undefined
        ? null
        : {
            ...{ critical: of('critical'), high: of('high'), medium: of('medium') },
            ...{ low: of('low'), unknown: of('unknown'), none: of('none') },
          },
  };
}

/** What something was recorded about. */
export function toRecorded(chosen: readonly ChosenRelease[]): SignOffResult['releases'] {
  return chosen.map(({ release: { version, commit }, components }) => {
    return { version: version ?? null, commit, components: components.map(({ component }) => component) };
  });
}
