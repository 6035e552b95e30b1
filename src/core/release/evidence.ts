import type { CommitId } from '../commit';
import { describePosition } from '../tags/ordering';
import type { Action } from '../ledger/entries';
import { publishersOf, type Fact, type Facts } from '../ledger/facts';
import { cameInto, servedIn } from '../ledger/environment';
import { releaseOption } from './gates/release-option';
import { unmetAmong, type Gate } from './gates/gate';
import { factNeed, refusedBy, type Decision, type Knowledge } from './knowledge';
import { chooseReleases, type ChosenRelease, type NamedChoice, type ServedChoice } from './promotion';
import { contentId, type ContentId, type ReleaseId } from '../ledger/release';
import type { Digest } from '../oci/digest';
import type { ReportSummary } from '../reports/summary';

/**
 * Which releases evidence is about: a named one, or what an environment serves. `checkout`: the commit that is checked out where
 * the evidence was found, which names a release too if it has one there; undefined where only what is served is meant.
 */
export type EvidenceChoice = NamedChoice | (ServedChoice & { readonly checkout: CommitId | undefined });

/** The signatures of a person under sign-offs of some content, and the rules that they were made under. */
export interface SignedSignOff {
  readonly rules: Digest;
  readonly signatures: ReadonlyMap<ContentId, string>;
}

/** Whose sign-offs an environment counts: those of some people, or all; signed, or by name. */
export interface SignOffsCounted {
  readonly groups: readonly string[];
  /** Undefined where everybody's count. */
  readonly people: readonly string[] | undefined;
  readonly proven: boolean;
}

/** Evidence about releases that somebody wants to record. */
export interface Evidence {
  /** Which releases it is about. */
  readonly choice: EvidenceChoice;
  /** The environment that they were in, or are to enter. */
  readonly environment: string;
  readonly by: string;
  readonly said:
    | {
        readonly kind: 'result';
        readonly name: string;
        readonly passed: boolean;
        readonly link: string | undefined;
        /** What a report says that it was read from. */
        readonly report?: ReportSummary | undefined;
      }
    | {
        readonly kind: 'signed-off';
        readonly signed?: SignedSignOff | undefined;
        /** The issuer whose keys verified which job says so. */
        readonly issuer?: string | undefined;
      };
  /** Whose sign-offs the environment counts. */
  readonly counts?: SignOffsCounted | undefined;
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
  const gates = chosen.value.flatMap((each) =>
    said.kind === 'result'
      ? [wasThere(each, environment)]
      : [notOwn(each, evidence.by, known.facts), counted(each, evidence)],
  );
  if (unmetAmong(gates).length > 0) {
    return { kind: 'refused', gates };
  }
  const isKnown = releases.every(({ content }) => says(known.facts.get('evidence', content), evidence));
  return {
    kind: 'decided',
    value: { chosen: chosen.value, actions: isKnown ? [] : [actionOf(evidence, releases)] },
  };
}

function actionOf(
  { said, environment }: Evidence,
  releases: readonly { readonly release: ReleaseId; readonly content: ContentId }[],
): Action {
  if (said.kind === 'result') {
    return { ...said, environment, releases: [...releases] };
  }
  const { kind, signed, issuer } = said;
  const all = releases.map((each) => ({ ...each, signature: signed?.signatures.get(each.content) }));
  return { kind, environment, rules: signed?.rules, issuer, releases: all };
}

/** A sign-off that the environment would not count is refused when it is made, and not found out at the promotion. */
function counted({ release }: ChosenRelease, { by, environment, counts, said }: Evidence): Gate {
  const gate = 'counts';
  const { people, groups = [], proven = false } = counts ?? {};
  const isSigned = said.kind === 'signed-off' && (said.signed !== undefined || said.issuer !== undefined);
  const why =
    people?.includes(by) === false
      ? `${environment} counts sign-offs of ${groups.join(' and ')}, and ${by} is not one of them`
      : proven && !isSigned
        ? `${environment} counts proven sign-offs only, and a name can be made up`
        : undefined;
  return why === undefined
    ? { gate, outcome: 'met', detail: `${environment} counts it` }
    : {
        gate,
        outcome: 'unmet',
        code: 'sign-off-uncounted',
        what: `${environment} would not count this sign-off`,
        object: `${describePosition(release)}, by ${by}`,
        detail: why,
        remedy:
          people?.includes(by) === false
            ? `let ${people.length === 1 ? '' : 'one of '}${people.join(', ')} sign it off`
            : 'add --sign: it signs with your SSH key, which `trust: { people }` must name; a job proves itself by an issuer of `trust: { issuers }`',
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
    detail: `it has only been in ${[...new Set(release.arrived.map((stay) => stay.environment))].join(', ') || 'no environment'}`,
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
    const { signed, issuer } = said;
    const isSame = (each: Fact<'evidence'>['signOffs'][number]): boolean =>
      each.environment === environment &&
      each.by === by &&
      each.issuer === issuer &&
      (signed === undefined || each.rules === signed.rules);
    return known?.signOffs.some(isSame) === true;
  }
  const latest = known?.results.find((each) => each.environment === environment && each.name === said.name);
  return (
    latest?.passed === said.passed &&
    latest.link === said.link &&
    latest.by === by &&
    latest.report?.digest === said.report?.digest
  );
}
