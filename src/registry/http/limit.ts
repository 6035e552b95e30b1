import pLimit from 'p-limit';

/** Does work when its turn comes. */
export type Turn = <T>(work: () => Promise<T>) => Promise<T>;

/** How much goes on at once, in all of a run. Nobody who holds a turn of the second kind waits for one of the first. */
export interface Limits {
  /** Blobs that move; a blob that is copied from one registry to another is one. */
  readonly blobs: Turn;
  /** Small requests: looking, tagging, manifests. */
  readonly requests: Turn;
}

/** Small requests for each blob that may move: they wait for answers, not for bytes. */
const requestsPerBlob = 4;

/** The limits of a run. `jobs`: how many blobs move at once. */
export function limitsFor(jobs: number): Limits {
  return { blobs: pLimit(jobs), requests: pLimit(jobs * requestsPerBlob) };
}
