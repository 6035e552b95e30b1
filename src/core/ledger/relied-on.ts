import { formatMoment } from '../amounts';
import { HodError } from '../errors';
import type { Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';
import type { Action } from './entries';
import { removalOf, type Facts, type ManifestRemoval } from './facts';

/** A manifest in a repository. */
export interface ManifestPlace {
  readonly repository: RepositoryName;
  readonly digest: Digest;
}

/** Returns the manifests that must be in their repositories for what an action says to be true. */
export function reliedOnBy(action: Action): ManifestPlace[] {
  switch (action.kind) {
    case 'published':
    case 'promoted':
    case 'adopted':
    case 'returned':
      return action.components;
    case 'staged':
      return action.parts;
    case 'rolled-back':
      return [
        ...[...action.served, ...action.lanes].flatMap(({ is }) => is ?? []),
        ...action.tags.flatMap(({ repository, is }) => (is === null ? [] : [{ repository, digest: is.digest }])),
      ];
    case 'moved':
      return action.tags;
    default:
      return [];
  }
}

/**
 * Returns what is wrong where tidying removes manifests that a run relies on, or has removed them since the run began; undefined
 * where nothing is.
 *
 * @param begun The number of the last entry when the run first asked a registry.
 * @param facts Those about the removal of the places.
 */
export function removedMeanwhile(places: readonly ManifestPlace[], begun: number, facts: Facts): HodError | undefined {
  for (const { repository, digest } of places) {
    const removal = removalOf(facts, repository, digest);
    if (removal !== undefined && (removal.state === 'removing' || removal.seq > begun)) {
      const isOver = removal.state === 'removed';
      return new HodError('content-removed', {
        what: 'tidying is removing content that this command needs',
        object: `${repository}@${digest}`,
        why: removalText(removal),
        next: isOver
          ? 'run the same command again: it uploads the content again'
          : 'wait until `hod tidy --remove` has ended, or run it again where it was ended; then run the same command again',
      });
    }
  }
  return undefined;
}

/** Says who removed content, when, and what let it go. */
export function removalText({ state, by, at, keep }: ManifestRemoval): string {
  return `${by} ${state === 'removed' ? 'removed it' : 'began to remove it'} with \`hod tidy\` on ${formatMoment(at)} (${keep})`;
}
