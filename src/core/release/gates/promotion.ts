import type { Passage } from './passage';
import { formatMoment } from '../../amounts';
import { describePosition } from '../../tags/ordering';
import type { ComponentArrival } from '../component-arrival';
import { servedIn } from '../../ledger/environment';
import type { Facts, Release, Withdrawal } from '../../ledger/facts';
import type { TagDecision } from '../tag-decisions';
import { releaseOption } from './release-option';
import type { Gate } from './gate';

/**
 * Checks that a release came through the environment before: served there now or once, or beside. A release that was
 * held there was never tested there, and a withdrawn one is bad.
 */
export function cameThrough(
  release: Release,
  components: readonly string[],
  { from, to }: Passage,
  withdrawal: Withdrawal | undefined,
): Gate {
  const gate = 'served-before';
  const stays = components.map((component) => ({
    component,
    stay: release.arrived.find((each) => each.environment === from && each.component === component),
  }));
  const object = `${describePosition(release)} to ${to}`;
  if (withdrawal !== undefined) {
    const remedy = `promote a newer one, or bring it back to ${from} on purpose, with --again --reason "…"`;
    return rolledBackFrom(gate, from, withdrawal, { object, remedy });
  }
  const missing = stays.filter(({ stay }) => stay === undefined);
  if (missing.length > 0) {
    const places = [...new Set(release.arrived.map(({ environment }) => environment))];
    const where =
      missing.length < stays.length
        ? `${missing.map(({ component }) => component).join(', ')} was not there`
        : `it has only been in ${places.join(', ')}`;
    return {
      gate,
      outcome: 'unmet',
      code: 'not-in-previous-environment',
      what: `this release was never in ${from}`,
      object,
      detail: `${to} takes only what ${from} has served; ${where}`,
      remedy: `run \`hod promote ${from}${releaseOption(release)}\` first`,
    };
  }
  const held = stays.filter(({ stay }) => stay?.way === 'held');
  return held.length > 0
    ? {
        gate,
        outcome: 'unmet',
        code: 'never-served',
        what: `${from} has never served this release`,
        object,
        detail: `when this release came to ${from}, a newer release was there already: ${held.map(({ component }) => component).join(', ')}`,
        remedy: `promote the release that ${from} serves, or a newer one`,
      }
    : { gate, outcome: 'met', detail: cameDetail(stays, from) };
}

interface ComponentStay {
  readonly component: string;
  readonly stay: Release['arrived'][number] | undefined;
}

function cameDetail(stays: readonly ComponentStay[], from: string): string {
  const [first] = stays.map(({ stay }) => stay).filter((stay) => stay !== undefined);
  if (first === undefined) {
    return `the release was in ${from}`;
  }
  if (first.adopted === true) {
    return `adopted: ${from} served the release before the ledger began`;
  }
  if (first.way !== 'takes-over') {
    return `in ${from} since ${formatMoment(first.since)}, beside the release that ${from} serves`;
  }
  return first.until === undefined
    ? `${from} has served the release since ${formatMoment(first.since)}`
    : `${from} served the release from ${formatMoment(first.since)} to ${formatMoment(first.until)}`;
}

/** What is known about the environment that a release is promoted into. */
interface Here {
  readonly withdrawal: Withdrawal | undefined;
  readonly decisions: readonly TagDecision[];
  readonly facts: Facts;
}

/** Refuses a promotion that would be held, and one of a release that is withdrawn there. */
export function comesIn(
  release: Release,
  arrivals: readonly ComponentArrival[],
  to: string,
  { withdrawal, decisions, facts }: Here,
): Gate {
  const gate = 'comes-in';
  const held = arrivals.filter(({ way }) => way === 'held');
  if (held.length === 0 && withdrawal !== undefined) {
    const detail = `${withdrawal.by} rolled ${to} back from this release ("${withdrawal.reason}"); --again brings it back`;
    return { gate: 'withdrawn', outcome: 'met', detail };
  }
  if (held.length === 0) {
    return { gate, outcome: 'met', detail: [...new Set(arrivals.map(({ reason }) => reason))].join('; ') };
  }
  const object = `${describePosition(release)} to ${to}`;
  if (withdrawal !== undefined) {
    return withdrawnFrom(release, to, withdrawal);
  }
  const was = release.arrived.some(({ environment, way }) => environment === to && way === 'takes-over');
  const drifted = decisions.some(({ recorded }) => recorded !== undefined);
  return {
    gate,
    outcome: 'unmet',
    code: 'not-newer',
    what: was ? 'this release was served here earlier' : 'a newer release is here already',
    object,
    detail: `${to} serves ${[...new Set(servedIn(facts, to).map(describePosition))].join(', ')}; ${heldBecause(held)}`,
    remedy: [
      was
        ? `go back to this release with \`hod rollback ${to} ${goingTo(release)} --reason "…"\``
        : `promote a newer release; \`hod rollback ${to} --reason "…"\` goes back to the release that ${to} served before`,
      ...(drifted ? [`tags of ${to} differ from the ledger: \`hod restore ${to}\` corrects them`] : []),
    ].join('; '),
  };
}

/** The refusal of a release that is withdrawn in an environment. */
export function withdrawnFrom(release: Release, to: string, withdrawal: Withdrawal): Gate {
  const remedy = 'promote a newer release; --again --reason "…" brings this one back on purpose';
  return rolledBackFrom('comes-in', to, withdrawal, { object: `${describePosition(release)} to ${to}`, remedy });
}

/** Why components are held; one reason where all have the same. */
function heldBecause(held: readonly ComponentArrival[]): string {
  const reasons = new Set(held.map(({ reason }) => reason));
  return reasons.size === 1
    ? [...reasons].join('')
    : held.map(({ component, reason }) => `${component}: ${reason}`).join('; ');
}

/** The option of `hod rollback` that names a release. */
function goingTo({ version, commit }: Pick<Release, 'version' | 'commit'>): string {
  return version === undefined ? `--commit ${commit}` : `--to ${version}`;
}

/** The refusal of a release that an environment was rolled back from. */
function rolledBackFrom(
  gate: string,
  environment: string,
  { by, at, reason }: Withdrawal,
  { object, remedy }: { readonly object: string; readonly remedy: string },
): Gate {
  const what = `${environment} was rolled back from this release`;
  return {
    gate,
    outcome: 'unmet',
    code: 'withdrawn',
    what,
    object,
    detail: `${by} rolled ${environment} back from this release on ${formatMoment(at)}: "${reason}"`,
    remedy,
  };
}
