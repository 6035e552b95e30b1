import type { CommitId } from '../commit';
import { describePosition } from '../tags/ordering';
import { compareVersions, type Version } from '../tags/version';
import type { Timestamp } from '../time';
import { cameInto, laneFacts, laneHeadsIn, servedIn, stayIn, wasLeft } from '../ledger/environment';
import { laneName } from '../ledger/lane';
import type { AdmissionRules, ProductRules } from '../ledger/rules';
import { rulingOf, signerNeeds } from '../release/promotion';
import {
  laneKey,
  stepKey,
  withdrawalOf,
  withdrawnKey,
  type Facts,
  type Release,
  type ServedComponent,
} from '../ledger/facts';
import { evidenceGates } from '../release/gates/admission';
import { unmetAmong, type UnmetGate } from '../release/gates/gate';
import type { Passage } from '../release/gates/passage';
import { withdrawnFrom } from '../release/gates/promotion';
import { isTaken, type Taking } from '../release/gates/taking';
import { factNeed, type Decision, type Knowledge, type Need } from '../release/knowledge';
import { contentId, type ReleaseId } from '../ledger/release';
import type { ServedLine } from './lines';

/** A passage, and the rules at its end. */
export interface RuledPassage extends Passage {
  readonly taking: Taking;
  readonly product: string;
  readonly admissionRules: AdmissionRules;
  /** The rules of hod.yaml. */
  readonly rules: ProductRules;
}

/** A release that an environment took over, and that was never in the one after it. */
export interface WaitingRelease {
  readonly release: ReleaseId;
  readonly version: Version | undefined;
  readonly commit: CommitId;
  /** Since when it waits: when the environment before took it over. */
  readonly since: Timestamp;
}

/** What waits to come into an environment. */
export interface Waiting {
  /** The components that the environment before serves with other content. */
  readonly components: readonly string[];
  /** The newest first. */
  readonly releases: readonly WaitingRelease[];
  /** Those that are the newest of a line in the environment before, beside what that serves. */
  readonly lines: readonly (WaitingRelease & { readonly line: string })[];
  /** There are more than those. */
  readonly more: boolean;
  /** The rules that ledger and clock alone decide about, and that say no to what the environment before serves now. */
  readonly gates: readonly (UnmetGate & { readonly of: string })[];
}

/** So many releases of a component are followed back, and so many steps are asked for at once. */
const [mostFollowed, window] = [24, 8];

/** Finds what waits to come into an environment. Nothing waits where it serves all that the one before serves. */
export function decideWaiting(passage: RuledPassage, now: Timestamp, known: Knowledge): Decision<Waiting> {
  const { from, to } = passage;
  const unknown = known.missing([factNeed('environment', from), factNeed('environment', to)]);
  if (unknown !== undefined) {
    return unknown;
  }
  const beside = waitingBeside(passage, known);
  if (beside.kind !== 'decided') {
    return beside;
  }
  const there = servedIn(known.facts, to);
  const waiting = servedIn(known.facts, from).filter(
    (served) => there.find(({ component }) => component === served.component)?.digest !== served.digest,
  );
  const followed = waiting.map((served) => follow(served, passage, known));
  const gates = gatesOf([...waiting, ...beside.value.map(({ head }) => head)], passage, now, known);
  const needs = [...followed, gates].flatMap((each) => (each.kind === 'needs' ? each.needs : []));
  if (needs.length > 0 || gates.kind !== 'decided') {
    return { kind: 'needs', needs };
  }
  const all = followed.flatMap((each) => (each.kind === 'decided' ? [each.value] : []));
  const oldestFirst = all.flatMap((each) => each.releases).sort((a, b) => a.since.localeCompare(b.since));
  const releases = new Map<ReleaseId, WaitingRelease>();
  for (const { release, version, commit, since } of oldestFirst) {
    releases.set(release, releases.get(release) ?? { release, version, commit, since });
  }
  return {
    kind: 'decided',
    value: {
      components: waiting.map(({ component }) => component),
      releases: [...releases.values()].reverse(),
      lines: uniqueLines(beside.value),
      more: all.some(({ more }) => more),
      gates: gates.value,
    },
  };
}

/**
 * Finds what came into the environment before beside what that serves, is the newest of a line or branch there, and never came into
 * the one after it, which takes releases of that branch.
 */
function waitingBeside({ from, to, taking }: RuledPassage, known: Knowledge): Decision<readonly ServedLine[]> {
  const { facts } = known;
  const lanes = [...new Set([from, to].flatMap((each) => facts.get('environment', each)?.lanes ?? []))];
  const unknown = known.missing(lanes.map((lane) => factNeed('lane', laneKey(from, lane))));
  if (unknown !== undefined) {
    return unknown;
  }
  const heads = lanes.flatMap((lane) => laneHeadsIn(facts, from, lane).map((head) => ({ line: laneName(lane), head })));
  const missing = known.missing(heads.map(({ head }) => factNeed('release', head.release)));
  if (missing !== undefined) {
    return missing;
  }
  const value = heads.filter(({ head: { component, release: id } }) => {
    const release = facts.get('release', id);
    const stay = release?.arrived.find((each) => each.environment === from && each.component === component);
    return (
      release !== undefined &&
      stay?.way === 'beside' &&
      !wasLeft(release, from, component) &&
      !cameInto(release, to, component) &&
      isTaken(release, taking, to).outcome === 'met'
    );
  });
  return { kind: 'decided', value };
}

/** The releases that wait beside, each once: several of its components may head the same line, or a line and a branch. */
function uniqueLines(beside: readonly ServedLine[]): Waiting['lines'] {
  const found = beside.map(({ line, head: { release, version, commit, since } }) => {
    return { line, release, version, commit, since };
  });
  return [...new Map([...found].reverse().map((each) => [each.release, each])).values()].reverse();
}

/** Follows back what an environment served of a component, as far as it was never in the environment after. */
function follow(
  served: ServedComponent,
  { from, to }: RuledPassage,
  known: Knowledge,
): Decision<{ releases: readonly ServedComponent[]; more: boolean }> {
  const releases: ServedComponent[] = [];
  for (let at: ServedComponent | null = served; at !== null; at = before(at, from, known.facts)) {
    if (releases.length === mostFollowed) {
      return { kind: 'decided', value: { releases, more: true } };
    }
    const unknown = known.missing([factNeed('release', at.release), ...stepsFrom(at.step, from)]);
    if (unknown !== undefined) {
      return unknown;
    }
    const release = known.facts.get('release', at.release);
    if (release !== undefined && cameInto(release, to, at.component) && !isBehind(release, at.component, to, known)) {
      break;
    }
    if (release === undefined || !wasLeft(release, from, at.component)) {
      releases.push(at);
    }
  }
  return { kind: 'decided', value: { releases, more: false } };
}

/**
 * Follows back what an environment served of a component until something is met. `between`: what came after that, the newest first.
 *
 * @param most So many are followed.
 */
export function chainFrom(
  served: ServedComponent | undefined,
  environment: string,
  { isMet, most }: { readonly isMet: (each: ServedComponent) => boolean; readonly most: number },
  known: Knowledge,
): Decision<{ readonly found: ServedComponent | undefined; readonly between: readonly ServedComponent[] }> {
  const between: ServedComponent[] = [];
  for (let at: ServedComponent | null = served ?? null; at !== null; at = before(at, environment, known.facts)) {
    if (isMet(at)) {
      return { kind: 'decided', value: { found: at, between } };
    }
    const unknown = known.missing(stepsFrom(at.step, environment));
    if (unknown !== undefined) {
      return unknown;
    }
    between.push(at);
    if (between.length === most) {
      break;
    }
  }
  return { kind: 'decided', value: { found: undefined, between } };
}

/** Whether an environment has a release beside and serves an older version, after a rollback for example: it is to take over. */
function isBehind({ version, arrived }: Release, component: string, to: string, { facts }: Knowledge): boolean {
  const stay = stayIn({ arrived }, to, component);
  const there = servedIn(facts, to).find((each) => each.component === component)?.version;
  return stay?.way === 'beside' && version !== undefined && there !== undefined && compareVersions(version, there) > 0;
}

/** Steps are asked for in windows that begin at fixed numbers, so that one question answers many. */
function stepsFrom(step: number, environment: string): Need[] {
  const first = step - (step % window);
  return Array.from({ length: window }, (_, at) => first + at)
    .filter((each) => each > 0)
    .map((each) => factNeed('step', stepKey(environment, each)));
}

/** What an environment served of a component before. */
function before({ component, step }: ServedComponent, environment: string, facts: Facts): ServedComponent | null {
  const changed = facts.get('step', stepKey(environment, step))?.served.find((each) => each.component === component);
  return changed?.was ?? null;
}

/** Asks the rules, as far as ledger and clock decide about them. */
function gatesOf(
  waiting: readonly ServedComponent[],
  { product, from, to, taking, admissionRules, rules }: RuledPassage,
  now: Timestamp,
  known: Knowledge,
): Decision<Waiting['gates']> {
  const ids = [...new Set(waiting.map(({ release }) => release))];
  const unknown = known.missing(ids.map((id) => factNeed('release', id)));
  if (unknown !== undefined) {
    return unknown;
  }
  const releases = ids.flatMap((id) => known.facts.get('release', id) ?? []);
  const passage = { product, environment: to, admissionRules, checkout: { rules } };
  const lacking =
    known.missing(releases.flatMap((release) => evidenceNeeds(release, { from, to }))) ??
    known.missing(releases.flatMap(({ components }) => signerNeeds(contentId(components), passage, known.facts)));
  if (lacking !== undefined) {
    return lacking;
  }
  const value = releases.flatMap((release) => {
    const content = contentId(release.components);
    const components = waiting.filter((each) => each.release === release.release);
    const withdrawal = withdrawalOf(known.facts, to, content);
    const candidate = {
      release,
      components,
      from,
      to,
      now,
      despiteFreeze: false,
      ruling: rulingOf(content, passage, known),
    };
    const gates = [
      isTaken(release, taking, to),
      ...(withdrawal === undefined ? [] : [withdrawnFrom(release, to, withdrawal)]),
      ...evidenceGates(admissionRules, candidate, known.facts, known.facts.get('evidence', content)),
    ];
    return unmetAmong(gates).map((gate) => ({ ...gate, of: describePosition(release) }));
  });
  return { kind: 'decided', value };
}

/** What the ledger must be asked of a release before rules are. */
function evidenceNeeds(release: Release, { from, to }: Passage): Need[] {
  const content = contentId(release.components);
  return [
    factNeed('evidence', content),
    factNeed('withdrawn', withdrawnKey(to, content)),
    ...laneFacts(from, release).map((fact): Need => ({ kind: 'fact', fact })),
  ];
}
