import type { CommitId } from '../core/commit';
import type { Digest } from '../core/oci/digest';
import type { RepositoryName } from '../core/oci/reference';
import type { KnownReferrers } from '../core/ledger/entries/known-referrers';
import type { Following } from '../core/build/following';
import type { NamedChoice } from '../core/release/promotion';
import type { PlacedComponent, ReleaseId, ReleaseImage } from '../core/ledger/release';
import type { ReleaseRecord } from '../core/ledger/release-record';
import type { RollbackRecord } from '../core/ledger/rollback-record';
import type { RulesOf } from '../core/tags/rules';
import type { Tag } from '../core/oci/tag';
import type { Timestamp } from '../core/time';
import type { Orders } from '../delivery/delivery';

/** An environment whose ledger was lost. */
export interface LostEnvironment {
  readonly name: string;
  /** The environments that releases pass through before, the nearest first; none where builds are published. */
  readonly before: readonly string[];
  readonly rulesOf: RulesOf;
}

/** What the registries of an environment tell of a release: those of its components that have its record there. */
export interface FoundArrival {
  readonly release: ReleaseId;
  readonly components: readonly PlacedComponent[];
  readonly referrers: KnownReferrers;
  /** The image for each platform of a component. */
  readonly imagesOf: (component: string) => readonly ReleaseImage[];
}

/** Everything that a ledger is made of again. */
export interface Remains {
  readonly product: string;
  /** In the order in which releases pass through them. */
  readonly environments: readonly LostEnvironment[];
  readonly releases: ReadonlyMap<ReleaseId, ReleaseRecord>;
  /** The signatures under those records that are signed, in base64. */
  readonly signatures: ReadonlyMap<ReleaseId, string>;
  /** By environment. */
  readonly arrivals: ReadonlyMap<string, readonly FoundArrival[]>;
  /** The rollbacks of each environment that its registries tell of, in the order of their time. */
  readonly rollbacks: ReadonlyMap<string, readonly RollbackRecord[]>;
  /** What each tag leads to now. */
  readonly served: (repository: RepositoryName, tag: Tag) => Digest | undefined;
  readonly following: (record: ReleaseRecord) => Promise<Following>;
  /** The day of a commit, `YYYYMMDD`; undefined where git does not know it. */
  readonly dayOf: (commit: CommitId) => Promise<string | undefined>;
  readonly orders: Orders;
  readonly actor: string;
  readonly now: Timestamp;
  /** What an environment serves, where somebody says so. */
  readonly serves: ReadonlyMap<string, NamedChoice>;
}
