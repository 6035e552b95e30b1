import * as z from 'zod';
import { issuesToText } from '../json';
import { readTime } from '../time';
import { merged, type ReportFinding, type ReportReading, type Severity } from './report';

/** A score from 0 to 10 as a severity (CVSS v3.1, "Qualitative Severity Rating Scale"). */
function severityOf(score: number): Severity {
  return score >= 9 ? 'critical' : score >= 7 ? 'high' : score >= 4 ? 'medium' : score > 0 ? 'low' : 'none';
}

const levels: Readonly<Record<string, Severity>> = { error: 'high', warning: 'medium', note: 'low', none: 'none' };
const level = z.enum(['error', 'warning', 'note', 'none']);
const properties = z.looseObject({ 'security-severity': z.coerce.number().optional() });
const rule = z.looseObject({
  id: z.string(),
  defaultConfiguration: z.looseObject({ level: level.optional() }).optional(),
  properties: properties.optional(),
});
const component = z.looseObject({ name: z.string(), version: z.string().optional(), rules: z.array(rule).optional() });
const sarifSchema = z.looseObject({
  version: z.literal('2.1.0', 'is not 2.1.0'),
  runs: z.array(
    z.looseObject({
      tool: z.looseObject({ driver: component, extensions: z.array(component).optional() }),
      invocations: z.array(z.looseObject({ endTimeUtc: z.string().optional() })).optional(),
      results: z
        .array(
          z.looseObject({
            ruleId: z.string().optional(),
            rule: z.looseObject({ id: z.string().optional(), index: z.number().int().optional() }).optional(),
            ruleIndex: z.number().int().optional(),
            level: level.optional(),
            kind: z.string().optional(),
            baselineState: z.string().optional(),
            properties: properties.optional(),
          }),
        )
        .nullable()
        .optional(),
    }),
  ),
});
type SarifRun = z.infer<typeof sarifSchema>['runs'][number];

/**
 * Reads a SARIF log (SARIF 2.1.0). A result counts that is of the kind `fail` and was not marked as absent; that a tool suppressed it
 * changes nothing: exceptions stand in hod.yaml. How bad it is: the score that its rule gives (`security-severity`), else its level:
 * error is high, warning medium, note low.
 */
export function readSarif(document: unknown): ReportReading {
  const parsed = sarifSchema.safeParse(document);
  if (!parsed.success) {
    return { problem: issuesToText(parsed.error) };
  }
  const { runs } = parsed.data;
  const times = runs.flatMap(({ invocations = [] }) =>
    invocations.flatMap(({ endTimeUtc = '' }) => readTime(endTimeUtc) ?? []),
  );
  const tools = runs.map(({ tool: { driver } }) => [driver.name, driver.version].filter(Boolean).join(' '));
  return {
    report: {
      format: 'sarif',
      tool: [...new Set(tools)].join(', ') || undefined,
      // The oldest of several runs: evidence is as old as its oldest part.
      at: times.sort()[0],
      findings: merged(runs.flatMap(sarifFindings)),
      tests: undefined,
    },
  };
}

function sarifFindings({ tool, results }: SarifRun): Omit<ReportFinding, 'count'>[] {
  const all = [tool.driver, ...(tool.extensions ?? [])].flatMap((each) => each.rules ?? []);
  const rules = new Map(all.map((each) => [each.id, each]));
  return (results ?? [])
    .filter(({ kind = 'fail', baselineState }) => kind === 'fail' && baselineState !== 'absent')
    .map((result) => {
      const index = result.ruleIndex ?? result.rule?.index;
      const id = result.ruleId ?? result.rule?.id ?? (index === undefined ? undefined : tool.driver.rules?.[index]?.id);
      const known =
        rules.get(id ?? '') ?? (id?.includes('/') === true ? rules.get(id.slice(0, id.lastIndexOf('/'))) : undefined);
      const score = result.properties?.['security-severity'] ?? known?.properties?.['security-severity'];
      const said = result.level ?? known?.defaultConfiguration?.level ?? 'warning';
      return { id: id ?? 'unnamed', severity: score === undefined ? (levels[said] ?? 'unknown') : severityOf(score) };
    });
}

const ratingSeverities: Readonly<Record<string, Severity>> = {
  critical: 'critical',
  high: 'high',
  medium: 'medium',
  low: 'low',
  info: 'none',
  none: 'none',
  unknown: 'unknown',
};
const named = z.looseObject({ name: z.string().optional(), version: z.string().optional() });
const cyclonedxSchema = z.looseObject({
  bomFormat: z.literal('CycloneDX', 'is not CycloneDX'),
  specVersion: z.string().regex(/^1\.([5-9]|\d\d)$/, 'is not 1.5 or later'),
  metadata: z
    .looseObject({
      timestamp: z.string().optional(),
      tools: z.union([z.array(named), z.looseObject({ components: z.array(named).optional() })]).optional(),
    })
    .optional(),
  vulnerabilities: z.array(
    z.looseObject({
      id: z.string().optional(),
      ratings: z.array(z.looseObject({ severity: z.string().optional(), score: z.number().optional() })).optional(),
      affects: z.array(z.unknown()).optional(),
    }),
    'is missing: a bill of materials alone says nothing of weaknesses',
  ),
});

/**
 * Reads the vulnerabilities of a CycloneDX document (1.5 and later). Each counts once, by the worst of its ratings; what an analysis
 * says of it changes nothing: exceptions stand in hod.yaml.
 */
export function readCycloneDx(document: unknown): ReportReading {
  const parsed = cyclonedxSchema.safeParse(document);
  if (!parsed.success) {
    return { problem: issuesToText(parsed.error) };
  }
  const { metadata, vulnerabilities } = parsed.data;
  const { timestamp, tools = [] } = metadata ?? {};
  const all = Array.isArray(tools) ? tools : (tools.components ?? []);
  const found = vulnerabilities.map(({ id = 'unnamed', ratings = [] }) => {
    const rated = ratings.map(({ severity, score }) =>
      severity === undefined
        ? score === undefined
          ? 'unknown'
          : severityOf(score)
        : (ratingSeverities[severity] ?? 'unknown'),
    );
    return { id, severity: worstOf(rated) };
  });
  return {
    report: {
      format: 'cyclonedx',
      tool: all.map(({ name, version }) => [name, version].filter(Boolean).join(' ')).join(', ') || undefined,
      at: readTime(timestamp ?? ''),
      findings: merged(found),
      tests: undefined,
    },
  };
}

function worstOf(rated: readonly Severity[]): Severity {
  const order: readonly Severity[] = ['critical', 'high', 'medium', 'low', 'unknown', 'none'];
  return order.find((severity) => rated.includes(severity)) ?? 'unknown';
}
