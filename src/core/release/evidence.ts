import type { CommitId } from '../commit';
import { describePosition } from '../tags/ordering';
import type { Action } from '../ledger/entries';
import { publishersOf, type Fact, type Facts } from '../ledger/facts';
import { cameInto, servedIn } from '../ledger/environment';
import { releaseOption } from './gates/admission';
import { unmetAmong, type Gate } from './gates/gate';
import { factNeed, refusedBy, type Decision, type Knowledge } from './knowledge';
import { chooseReleases, type ChosenRelease, type NamedChoice, type ServedChoice } from './promotion';
import { contentId } from '../ledger/release';

/**
 * Which releases evidence is about: a named one, or what an environment serves. `checkout`: the commit that is checked out where
 * the evidence was found, which names a release too if it has one there; undefined where only what is served is meant.
 */
export type EvidenceChoice = NamedChoice | (ServedChoice & { readonly checkout: CommitId | undefined });

/** Evidence about releases that somebody wants to record. */
export interface Evidence {
  /** Which releases it is about. */
  readonly choice: EvidenceChoice;
  /** The environment that they were in, or are to enter. */
  readonly environment: string;
  readonly by: string;
  readonly said:
    | { readonly kind: 'result'; readonly name: string; readonly passed: boolean; readonly link: string | undefined }
    | { readonly kind: 'signed-off' };
}

/** What is recorded of evidence: what it is about, and what the ledger is told; nothing where it knows it. */
export interface RecordedEvidence {
  readonly chosen: readonly ChosenRelease[];
  readonly actions: readonly Action[];
}

/** Decides what evidence is about. Refused where a result is of an environment that never served it. */
export function decideEvidence(evidence: Evidence, known: Knowledge): Decision<RecordedEvidence> {
  const { choice, environment, said } = evidence;
  const one = 'servedBy' in choice ? meansOne(choice, known) : undefined;
  if (one !== undefined && one.kind !== 'decided') {
    return one;
  }
  const chosen = chooseReleases(choice, undefined, environment, known);
  if (chosen.kind !== 'decided') {
    return chosen;
  }
  const releases = chosen.value.map(({ release: { release, components } }) => ({
    release,
    content: contentId(components),
  }));
  const unknown = known.missing(releases.map(({ content }) => factNeed('evidence', content)));
  if (unknown !== undefined) {
    return unknown;
  }
  const gates = chosen.value.map((each) =>
    said.kind === 'result' ? wasThere(each, environment) : notOwn(each, evidence.by, known.facts),
  );
  if (unmetAmong(gates).length > 0) {
    return { kind: 'refused', gates };
  }
  const isKnown = releases.every(({ content }) => says(known.facts.get('evidence', content), evidence));
  return {
    kind: 'decided',
    value: { chosen: chosen.value, actions: isKnown ? [] : [{ ...said, environment, releases }] },
  };
}

/**
 * Evidence that names no release means what is served, and what is checked out where that is a release of the environment.
 * Refused where these are two: a job of a hotfix would speak of a release that it never saw.
 */
function meansOne(
  { servedBy, checkout }: Extract<EvidenceChoice, { servedBy: string }>,
  known: Knowledge,
): Decision<undefined> {
  const nothing = { kind: 'decided', value: undefined } as const;
  if (checkout === undefined) {
    return nothing;
  }
  const unknown = known.missing([factNeed('commit', checkout), factNeed('environment', servedBy)]);
  if (unknown !== undefined) {
    return unknown;
  }
  const { facts } = known;
  const own = facts.get('commit', checkout)?.release;
  const served = servedIn(facts, servedBy);
  if (own === undefined || served.every(({ release }) => release === own)) {
    return nothing;
  }
  const release = known.missing([factNeed('release', own)]);
  if (release !== undefined) {
    return release;
  }
  const found = facts.get('release', own);
  if (found?.components.some(({ component }) => cameInto(found, servedBy, component)) !== true) {
    return nothing;
  }
  const names = [...new Set(served.map(describePosition))].join(' and ');
  return refusedBy('one-release', {
    code: 'two-releases',
    what: 'two releases may be meant',
    object: `${describePosition(found)} and ${names} in ${servedBy}`,
    detail: `the commit that is checked out is ${describePosition(found)}, and ${servedBy} serves ${names}`,
    remedy: `add${releaseOption(found)} for the release that is checked out, or --serving for the release that ${servedBy} serves`,
  });
}

/** What was found out in an environment was found out about something that it served. */
function wasThere({ release, components }: ChosenRelease, environment: string): Gate {
  const gate = 'was-there';
  const names = components.map(({ component }) => component);
  if (names.every((component) => cameInto(release, environment, component))) {
    return { gate, outcome: 'met', detail: `it was in ${environment}` };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'never-served',
    what: `${environment} has never served this release`,
    object: describePosition(release),
    detail: `so far it was in ${[...new Set(release.arrived.map((stay) => stay.environment))].join(', ') || 'no environment'}`,
    remedy: 'record the result where it was found: --in names the environment that served the release',
  };
}

/** Nobody signs off what they published, under whatever version. */
function notOwn({ release }: ChosenRelease, by: string, facts: Facts): Gate {
  const gate = 'not-own';
  const publishers = publishersOf(release, facts.get('evidence', contentId(release.components)));
  return publishers.includes(by)
    ? {
        gate,
        outcome: 'unmet',
        code: 'own-sign-off',
        what: 'nobody signs off what they published',
        object: `${describePosition(release)}, by ${by}`,
        detail: `${by} published it, or the same content before`,
        remedy: 'let somebody else sign it off; a job that approves needs another identity than the job that publishes',
      }
    : { gate, outcome: 'met', detail: `published by ${publishers.join(', ')}` };
}

/** Whether the latest that is known is the same. */
function says(known: Fact<'evidence'> | undefined, { environment, by, said }: Evidence): boolean {
  if (said.kind === 'signed-off') {
    return known?.signOffs.some((each) => each.environment === environment && each.by === by) === true;
  }
  const latest = known?.results.find((each) => each.environment === environment && each.name === said.name);
  return latest?.passed === said.passed && latest.link === said.link && latest.by === by;
}
