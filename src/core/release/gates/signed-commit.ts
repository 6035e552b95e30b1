import type { CommitId } from '../../commit';
import type { Gate } from './gate';
import { unmetGate, type RefusedRelease } from './refused-release';

/** Who signed a commit, by their SSH key; or why that is not known. */
export type CommitSigner =
  { readonly by: string; readonly problem?: undefined } | { readonly by?: undefined; readonly problem: string };

/** The commit of a release is signed by one of the people who are trusted. */
export function commitIsSigned(
  signer: CommitSigner | undefined,
  candidate: RefusedRelease & { readonly release: { readonly commit: CommitId } },
): Gate {
  const gate = 'signed-commit';
  const commit = candidate.release.commit.slice(0, 12);
  return signer?.by !== undefined
    ? { gate, outcome: 'met', detail: `${commit} is signed by ${signer.by}` }
    : unmetGate(gate, candidate, {
        code: 'commit-unsigned',
        what: 'the commit is not signed by a known person',
        detail: `commit ${commit}: ${signer?.problem ?? 'nobody has looked at its signature'}`,
        remedy: 'sign the next commit with a key of `trust: { people }`, and release that',
      });
}
