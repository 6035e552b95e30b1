import { shortCommit, type CommitId } from '../commit';
import { compareOrder, type Ancestry } from '../tags/ordering';
import { everyVersion, nextVersion, type Version, type VersionLine } from '../tags/version';
import type { VersionPart } from '../tags/version-part';
import { decided, factNeed, refusedBy, type Decision, type Knowledge } from './knowledge';
import type { ContentId } from '../ledger/release';
import { noVersion, type VersionRequest } from '../build/version-request';

/**
 * How a build came by its version. `kept`: what it holds has this version already. `held`: a newer
 * build has the next one.
 */
export const versionOutcomes = ['none', 'given', 'next', 'kept', 'held'] as const;

/** The version of a build, and why it has this one or none. */
export interface VersionDecision {
  readonly version: Version | undefined;
  readonly outcome: (typeof versionOutcomes)[number];
  readonly reason: string;
}

/** What is asked about. */
export interface VersionCandidate {
  readonly commit: CommitId;
  readonly content: ContentId;
}

/**
 * Decides which version a build gets. A version stands for one content; the next one is taken only
 * by a build that holds something new and comes after the one that has the last. Refused where it is
 * not known that it does.
 */
export function decideVersion(
  request: VersionRequest,
  candidate: VersionCandidate,
  known: Knowledge,
  ancestry: Ancestry = known.ancestry,
): Decision<VersionDecision> {
  switch (request.kind) {
    case 'none':
      return decided({
        version: undefined,
        outcome: 'none',
        reason: `none was asked for, and ${noVersion(request.near)}`,
      });
    case 'given':
      return decided({ version: request.version, outcome: 'given', reason: `as ${request.source} says` });
    case 'next':
      return decideNext(request, candidate, known, ancestry);
  }
}

function decideNext(
  { part, line }: Extract<VersionRequest, { kind: 'next' }>,
  candidate: VersionCandidate,
  known: Knowledge,
  ancestry: Ancestry,
): Decision<VersionDecision> {
  const unknown = known.missing([factNeed('line', line), factNeed('commit', candidate.commit)]);
  if (unknown !== undefined) {
    return unknown;
  }
  const own = known.facts.get('commit', candidate.commit);
  if (own?.version !== undefined && own.content === candidate.content) {
    return decided({ version: own.version, outcome: 'kept', reason: `this build is ${own.version} already` });
  }
  const last = known.facts.get('line', line);
  if (last === undefined) {
    return known.missing([{ kind: 'highest', line }]) ?? decideFirst(part, line, known.highestOn(line));
  }
  if (last.content === candidate.content) {
    const reason = `same content as ${last.version}, the last version: no new version is needed`;
    return decided({ version: last.version, outcome: 'kept', reason });
  }
  return (
    known.missing([{ kind: 'order', commit: candidate.commit, other: last.commit }]) ??
    decideAfter(part, last, candidate, ancestry)
  );
}

/** @param adopted The highest release that is known elsewhere, for a ledger that knows none yet. */
function decideFirst(part: VersionPart, line: VersionLine, adopted: Version | undefined): Decision<VersionDecision> {
  if (adopted === undefined && line !== everyVersion) {
    return refusedBy('version-order', {
      code: 'line-empty',
      what: 'there is no release on this line of versions yet',
      object: line,
      detail: 'the next version follows one that is there',
      remedy: 'publish its first release with --version',
    });
  }
  const reason =
    adopted === undefined ? 'the first' : `the next ${part} after ${adopted}, which was there before the ledger`;
  return decided({ version: nextVersion(part, adopted), outcome: 'next', reason });
}

function decideAfter(
  part: VersionPart,
  last: { version: Version; commit: CommitId },
  candidate: VersionCandidate,
  ancestry: Ancestry,
): Decision<VersionDecision> {
  const order = compareOrder({ commit: candidate.commit }, { commit: last.commit }, ancestry);
  switch (order) {
    case 'newer':
    case 'same':
      return decided({
        version: nextVersion(part, last.version),
        outcome: 'next',
        reason: `the next ${part} after ${last.version}`,
      });
    case 'older':
      return decided({
        version: undefined,
        outcome: 'held',
        reason: `${last.version} was made from a later commit, ${shortCommit(last.commit)}, which contains this one`,
      });
    case 'unrelated':
      return refusedBy('version-order', {
        code: 'not-after-last-version',
        what: 'this build is not newer than the last version',
        object: candidate.commit,
        detail: `${last.version} was made from ${last.commit}, which this commit does not contain`,
        remedy: 'merge it first; for a maintenance branch name its line of versions, such as --line 2.3',
      });
    case 'unknown':
      return refusedBy('version-order', {
        code: 'order-unknown',
        what: 'the order of this build and the last version is unknown',
        object: candidate.commit,
        detail: `${last.version} was made from ${last.commit}: ${ancestry.gap}`,
        remedy: 'fetch the missing git history, or name the version with --version',
      });
  }
}
