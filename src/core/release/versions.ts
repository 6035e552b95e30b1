import { HodError } from '../errors';
import type { Digest } from '../oci/digest';
import { compareOrder, type Ancestry } from '../tags/ordering';
import { nextVersion, type Version, type VersionPart } from '../tags/version';
import type { FactKey, Facts } from './facts';

/** Which version a build asks for. */
export type VersionRequest =
  | { readonly kind: 'none' }
  /** This one. `from`: who says so. */
  | { readonly kind: 'given'; readonly version: Version; readonly from: string }
  /** The next one of a line of versions (`` for all). */
  | { readonly kind: 'next'; readonly part: VersionPart; readonly line: string };

/** The version of a build, and why it has this one or none. */
export interface VersionDecision {
  readonly version: Version | undefined;
  /** `kept`: what it holds has this version already. `held`: a newer build has the next one. */
  readonly outcome: 'none' | 'given' | 'next' | 'kept' | 'held';
  readonly reason: string;
}

/** What is asked about. */
export interface VersionCandidate {
  readonly commit: string;
  /** The name of what it holds. */
  readonly content: Digest;
}

/** The facts that {@link decideVersion} reads. */
export function factsForVersion(request: VersionRequest, { commit }: VersionCandidate): FactKey[] {
  switch (request.kind) {
    case 'none':
      return [];
    case 'given':
      return [{ kind: 'version', key: request.version }];
    case 'next':
      return [
        { kind: 'line', key: request.line },
        { kind: 'commit', key: commit },
      ];
  }
}

/**
 * Decides which version a build gets. A version stands for one content; the next one is taken only
 * by a build that holds something new and comes after the one that has the last.
 *
 * Throws `refused` where it is not known that the build comes after the last version.
 *
 * @param adopted The highest release that is known elsewhere, for a ledger that knows none yet.
 */
export function decideVersion(
  request: VersionRequest,
  candidate: VersionCandidate,
  facts: Facts,
  ancestry: Ancestry,
  adopted?: Version,
): VersionDecision {
  switch (request.kind) {
    case 'none':
      return { version: undefined, outcome: 'none', reason: 'none was asked for, and no git tag names one' };
    case 'given':
      return { version: request.version, outcome: 'given', reason: `as ${request.from} says` };
    case 'next':
      return decideNext(request, candidate, facts, ancestry, adopted);
  }
}

function decideNext(
  { part, line }: Extract<VersionRequest, { kind: 'next' }>,
  candidate: VersionCandidate,
  facts: Facts,
  ancestry: Ancestry,
  adopted: Version | undefined,
): VersionDecision {
  const own = facts.get('commit', candidate.commit);
  if (own?.version !== undefined && own.content === candidate.content) {
    return { version: own.version, outcome: 'kept', reason: `this build is ${own.version} already` };
  }
  const last = facts.get('line', line);
  if (last === undefined) {
    if (adopted === undefined && line !== '') {
      refuseEmptyLine(line);
    }
    const version = nextVersion(part, adopted);
    const reason =
      adopted === undefined ? 'the first' : `the next ${part} after ${adopted}, which was there before the ledger`;
    return { version, outcome: 'next', reason };
  }
  if (last.content === candidate.content) {
    const reason = `it holds the same as ${last.version}, the last version: no new one is made`;
    return { version: last.version, outcome: 'kept', reason };
  }
  const order = compareOrder({ commit: candidate.commit }, { commit: last.commit }, ancestry);
  switch (order) {
    case 'newer':
    case 'same':
      return {
        version: nextVersion(part, last.version),
        outcome: 'next',
        reason: `the next ${part} after ${last.version}`,
      };
    case 'older':
      return {
        version: undefined,
        outcome: 'held',
        reason: `${last.version} was made from a later commit, ${last.commit.slice(0, 12)}, which contains this one`,
      };
    case 'unrelated':
      throw new HodError('refused', {
        what: 'this build does not come after the last version',
        object: candidate.commit,
        why: `${last.version} was made from ${last.commit}, which this commit does not contain`,
        next: 'merge it first; for a maintenance branch name its line of versions, such as --line 2.3',
      });
    case 'unknown':
      throw new HodError('refused', {
        what: 'it is not known whether this build comes after the last version',
        object: candidate.commit,
        why: `${last.version} was made from ${last.commit}: ${ancestry.gap}`,
        next: 'give git here the history that it lacks, or name the version with --version',
      });
  }
}

function refuseEmptyLine(line: string): never {
  throw new HodError('refused', {
    what: 'there is no release on this line of versions yet',
    object: line,
    why: 'the next version follows one that is there',
    next: 'publish its first release with --version',
  });
}

/** Throws `refused` where the ledger knows a version as that of other content. */
export function refuseTakenVersion(version: Version | undefined, { content }: VersionCandidate, facts: Facts): void {
  const taken = version && facts.get('version', version);
  if (version !== undefined && taken !== undefined && taken.content !== content) {
    throw new HodError('refused', {
      what: 'this version stands for another build',
      object: version,
      why: `the ledger has it as the release ${taken.release}, which holds something else`,
      next: 'publish with a new version, or let --next patch take it; nothing was changed',
    });
  }
}
