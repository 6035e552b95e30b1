import type { BuildDetail } from '../core/build/build';
import type { Digest } from '../core/oci/digest';
import type { WireEvent } from '../http/wire';

/** Is told when a blob begins to be sent, of its bytes, and when it is there. */
export interface TransferProgress {
  /** A blob of `size` bytes begins to be sent to a repository. */
  begin(digest: Digest, repository: string, size: number): void;
  sent(digest: Digest, bytes: number): void;
  end(digest: Digest): void;
}

/** Is told of requests, transfers and notices while a command runs. */
export interface Observer {
  /** A request was answered, or was not. */
  exchange(event: WireEvent): void;
  readonly transfer: TransferProgress;
  /** What is published, and who says so. */
  build(details: readonly BuildDetail[]): void;
  /** A notice for a person who waits. */
  note(text: string): void;
  /** A detail for a person who looks for a cause. */
  detail(text: string): void;
  /** The run has waited long enough for another party that people want to know for which. */
  waiting(text: string): void;
  /** An entry was added to the ledger: the one step that is serialised. */
  recorded(step: { seq: number; attempt: number; milliseconds: number }): void;
}

/** An observer that ignores everything. */
export const silent: Observer = {
  exchange: () => undefined,
  transfer: { begin: () => undefined, sent: () => undefined, end: () => undefined },
  build: () => undefined,
  note: () => undefined,
  detail: () => undefined,
  waiting: () => undefined,
  recorded: () => undefined,
};
