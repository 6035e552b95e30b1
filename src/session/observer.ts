import type { BuildDetail } from '../core/build/build';
import type { Digest } from '../core/oci/digest';
import type { WireEvent } from '../registry/http/wire';

/** Told of blobs as they are sent. */
export interface TransferProgress {
  /** A blob of `size` bytes begins to be sent to a repository. */
  begin(digest: Digest, repository: string, size: number): void;
  sent(digest: Digest, bytes: number): void;
  end(digest: Digest): void;
}

/** Told of what goes on while a command runs. */
export interface Observer {
  /** A request was answered, or was not. */
  exchange(event: WireEvent): void;
  readonly transfer: TransferProgress;
  /** What is published, and who says so. */
  build(details: readonly BuildDetail[]): void;
  /** Something that people who wait want to know. */
  note(text: string): void;
  /** Something that whoever looks for a cause wants to know. */
  detail(text: string): void;
  /** Somebody has been waited for long enough that people want to know for whom. */
  waiting(text: string): void;
  /** An entry was added to the ledger: the one step that is serialised. */
  recorded(step: { seq: number; attempt: number; milliseconds: number }): void;
}

/** An observer that tells nobody. */
export const silent: Observer = {
  exchange: () => undefined,
  transfer: { begin: () => undefined, sent: () => undefined, end: () => undefined },
  build: () => undefined,
  note: () => undefined,
  detail: () => undefined,
  waiting: () => undefined,
  recorded: () => undefined,
};
