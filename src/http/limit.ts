import pLimit from 'p-limit';

/** Does work when its turn comes. */
export type Turn = <T>(work: () => Promise<T>) => Promise<T>;

/** How much goes on at once, in all of a run. Nobody who holds a turn for a request waits for one of the others. */
export interface Limits {
  /** Blobs that move piece by piece; a blob that is copied from one registry to another is one. */
  readonly bulk: Turn;
  /** Blobs that are small enough to stay in memory. */
  readonly smallBlobs: Turn;
  /** Small requests: looking, tagging, manifests, and what a small blob takes. */
  readonly requests: Turn;
  /** The most connections to one host that all of that needs. */
  readonly connections: number;
}

/** Small requests for each blob that may move: they wait for answers, not for bytes. */
const requestsPerBlob = 4;

/** The limits of a run. `jobs`: how many blobs move at once. */
export function limitsFor(jobs: number): Limits {
  const requests = jobs * requestsPerBlob;
  // A blob that is copied within one registry takes two.
  const connections = 2 * jobs + requests;
  return { bulk: pLimit(jobs), smallBlobs: pLimit(requests), requests: pLimit(requests), connections };
}
