import { describeDuration, formatCount, formatFuture, formatMoment, formatPast } from '../../amounts';
import { wasAdopted, type Fact, type Release } from '../../ledger/facts';
import type { ResultRule } from '../../ledger/rules';
import { severities } from '../../reports/report';
import { severityCounts } from '../../reports/summary';
import { describePosition } from '../../tags/ordering';
import { isInFuture, timestampOf, type Timestamp } from '../../time';
import type { Gate } from './gate';
import { unmetGate } from './refused-release';
import { releaseOption } from './release-option';

/** A release that results are asked of, and when. */
interface Tested {
  readonly release: Release;
  readonly from: string;
  readonly to: string;
  readonly now: Timestamp;
}

type Result = Fact<'evidence'>['results'][number];

/** The latest result of a name in the environment before counts: it passed, says what the rule asks for, and is not too old. */
export function resultPassed(rule: ResultRule, candidate: Tested, evidence: Fact<'evidence'> | undefined): Gate {
  const { name } = rule;
  const { from, now, release } = candidate;
  const at = new Date(now);
  const gate = `result ${name}`;
  const found = evidence?.results.find((each) => each.name === name && each.environment === from);
  if (found === undefined) {
    const detail = `no result of \`${name}\` in ${from} is recorded for ${describePosition(release)}${adoptedIn(candidate)}`;
    return lacking(rule, candidate, 'a test result is missing', detail);
  }
  const why = whyFailed(rule, found, now);
  if (why !== undefined) {
    return lacking(
      rule,
      candidate,
      'a test failed',
      `${found.by} recorded on ${formatPast(found.at, at)} that \`${name}\` failed in ${from}${why === '' ? '' : `: ${why}`}`,
    );
  }
  const late = whyTooOld(rule, found, now);
  if (late !== undefined) {
    return lacking(rule, candidate, 'a test result is too old', late);
  }
  const said = found.report === undefined ? '' : `: ${describeReport(found.report)}`;
  const ends = rule.noOlderThan === undefined ? '' : `; expires ${formatFuture(endOf(found, rule.noOlderThan), at)}`;
  const detail = `passed in ${from}; ${found.by} recorded the result on ${formatPast(found.at, at)}${said}${ends}`;
  return { gate, outcome: 'met', detail };
}

function lacking(rule: ResultRule, candidate: Tested, what: string, detail: string): Gate {
  const { name } = rule;
  const { from, release } = candidate;
  const how = rule.atMost === undefined ? '--passed' : '--report FILE';
  return unmetGate(`result ${name}`, candidate, {
    code: 'result-missing',
    what,
    detail,
    remedy: `run ${name} in ${from}, then \`hod record result ${name} ${how} --in ${from}${releaseOption(release)}\``,
  });
}

/** Why a result has not passed, in words, or nothing more to say; undefined where it has. */
function whyFailed(
  { atMost, except = [] }: ResultRule,
  { passed, report }: Result,
  now: Timestamp,
): string | undefined {
  if (atMost === undefined) {
    return passed ? undefined : report === undefined ? '' : describeReport(report);
  }
  if (report?.findings === undefined) {
    return 'no report of findings was recorded with it';
  }
  const excused = new Set(except.filter(({ until }) => !isOver(until, now)).map(({ id }) => id));
  const counts = severityCounts(report, excused);
  const limits = new Map(Object.entries(atMost));
  const over = severities.flatMap((severity) => {
    const [most, count = 0] = [limits.get(severity), counts.get(severity)];
    return most === undefined || count <= most ? [] : [`${count} ${severity}, at most ${most}`];
  });
  const ended = except.filter(
    ({ id, until }) => isOver(until, now) && report.findings?.some((each) => each.id === id) === true,
  );
  return over.length === 0
    ? undefined
    : [over.join(', '), ...ended.map(({ id, until }) => `the exception of ${id} ended on ${formatMoment(until)}`)].join(
        '; ',
      );
}

/** Whether a moment is past. */
function isOver(until: Timestamp, now: Timestamp): boolean {
  return Date.parse(until) <= Date.parse(now);
}

/** Why a result does not count any more; undefined where it does. */
function whyTooOld({ noOlderThan }: ResultRule, found: Result, now: Timestamp): string | undefined {
  if (noOlderThan === undefined) {
    return undefined;
  }
  const made = timeOfResult(found);
  if (isInFuture(made, now)) {
    return `the report is dated ${formatMoment(made)}, in the future; check the clocks of this machine and of the one that made it`;
  }
  const end = endOf(found, noOlderThan);
  return Date.parse(end) < Date.parse(now)
    ? `the result of ${formatMoment(made)} expired after ${describeDuration(noOlderThan)}, on ${formatPast(end, new Date(now))}`
    : undefined;
}

/** When something was found out: when the tool ended, or else when that was recorded. */
function timeOfResult({ at, report }: Result): Timestamp {
  return report?.at ?? at;
}

/** Returns until when a result counts that may be so old. */
export function endOf(found: Result, noOlderThan: number): Timestamp {
  return timestampOf(new Date(Date.parse(timeOfResult(found)) + noOlderThan));
}

/** What a report says, in a few words. */
function describeReport({ tool, tests, ...found }: NonNullable<Result['report']>): string {
  const counts = severityCounts(found);
  const parts = severities.flatMap((severity) => {
    const count = counts.get(severity) ?? 0;
    return count === 0 ? [] : [`${count} ${severity}`];
  });
  const said =
    tests === undefined
      ? parts.join(', ') || 'no findings'
      : `${formatCount(tests.passed, 'test')} passed, ${tests.failed} failed, ${tests.skipped} skipped`;
  return tool === undefined ? said : `${tool}: ${said}`;
}

/** Says why an environment knows nothing of a release that it served before the ledger began. */
function adoptedIn({ release, from }: Tested): string {
  return wasAdopted(release, from) ? '; the release was adopted, and earlier tests are not in the ledger' : '';
}
