import type { Actor } from '../core/ledger/entry';
import type { CommitId } from '../core/commit';
import type { ContentNode } from '../core/oci/content';
import { kindOf, type ContentKind } from '../core/oci/bundle';
import { imagesByPlatform } from '../core/oci/content';
import { describeManifest, type Manifest } from '../core/oci/manifest';
import { typeOf } from '../core/oci/referrers';
import type { Carrying } from '../core/oci/referrers';
import type { Action } from '../core/ledger/entries';
import type { ComponentArrival, Origin } from '../core/release/component-arrival';
import type { Holding, Judgement, Knowledge, Standing } from '../core/release/knowledge';
import type { Included, PlacedComponent } from '../core/ledger/release';
import type { TagDecision } from '../core/release/tag-decisions';
import type { ArrivingComponent, Plan, Verdict } from '../core/release/verdict';
import type { Ancestry } from '../core/tags/ordering';
import type { Version, VersionLine } from '../core/tags/version';
import type { Ledger } from '../ledger/ledger';
import type { RepositoryTarget } from '../registry/ports';
import type { Observer } from '../session/observer';
import type { ReferrerCount } from './referrers/carry';
import type { Referrer } from './referrers/find';
import type { Transfer } from './carry';
import type { TogetherMember } from './together';

/** A component on its way into an environment: its content, and where it goes. */
export interface DeliveryItem {
  readonly component: string;
  readonly node: ContentNode;
  /** `os/arch[/variant]` of everything in it that runs. */
  readonly platforms: readonly string[];
  readonly target: RepositoryTarget;
  /** Where it came from, of a component that another product builds. */
  readonly included?: Included | undefined;
  /** Its referrers that are carried with it. */
  readonly referrers: readonly Referrer[];
}

/** How a delivery is carried. */
export interface Manner {
  /** Whether each component is told which release it is of: a release record refers to it then. */
  readonly records: boolean;
  /** Look at everything that is there already, and send what is not there any more. */
  readonly mend: boolean;
}

/** What is on its way into an environment: a release, or several that come in together. */
export interface Delivery<P extends Plan> {
  readonly product: string;
  readonly environment: string;
  readonly items: readonly DeliveryItem[];
  readonly manner: Manner;
  /** Decides anew whenever more is known, or the ledger has changed: about each release that comes in. Pure. */
  decide(known: Knowledge): Judgement<readonly Verdict<P>[]>;
  /**
   * What to write into the ledger about one of them, and those components that come in with it. Pure.
   *
   * @param together It was decided in one with the entry before.
   */
  action(verdict: Verdict<P>, components: PlacedComponent[], together: boolean): Action;
}

/** What git and registries tell of the order of builds. */
export interface Orders {
  around(commit: CommitId, others: readonly CommitId[]): Promise<Ancestry>;
  /** The highest release on a line that registry and git tags show. */
  highest(line: VersionLine): Promise<Version | undefined>;
}

/** What the git remote says that all clones of a product share. */
export interface SharedRemote {
  /** Where the rules of the checkout stand, among the heads of some branches; of the usual ones where none are named. */
  standing(branches: readonly string[] | undefined): Promise<Standing>;
  /** Which of some branches contain a commit there. */
  holding(commit: CommitId, branches: readonly string[]): Promise<Holding>;
}

/** What a delivery works with. */
export interface DeliveryContext {
  readonly ledger: Ledger;
  readonly orders: Orders;
  /** Undefined where no rule turns on it. */
  readonly remote?: SharedRemote | undefined;
  readonly observer: Pick<Observer, 'transfer' | 'recorded' | 'waiting' | 'note'>;
  /** Who does it, for the ledger. */
  readonly actor: Actor;
  readonly dryRun: boolean;
  /** The part of the product in what several do together; undefined where it goes alone. */
  readonly together?: TogetherMember | undefined;
}

/** What became of one component. */
export interface DeliveredItem extends PlacedComponent {
  readonly kind: ContentKind;
  /** What kind of artifact it is; undefined of an image. */
  readonly artifactType: string | undefined;
  /** The release that it is of. */
  readonly origin: Origin;
  readonly arrival: ComponentArrival;
  readonly tags: readonly TagDecision[];
  /** Rules that gave no tag, and what is missing. */
  readonly omitted: readonly { readonly rule: string; readonly missing: string }[];
  readonly referrers: ReferrerCount;
  readonly transfer: Transfer & { readonly requests: number };
}

/** What became of a delivery. */
export interface Delivered<P extends Plan> {
  /** What was done in the end, release by release. */
  readonly verdicts: readonly Verdict<P>[];
  readonly items: readonly DeliveredItem[];
}

/** How something is carried into an environment, by what it takes and by what was asked for. */
export function mannerOf({ carrying }: { carrying: Carrying }, { mend }: { mend?: true | undefined }): Manner {
  return { records: carrying !== 'none', mend: mend === true };
}

/** What some content is, for answers. */
export function kindAndType(manifest: Manifest): { kind: ContentKind; artifactType: string | undefined } {
  const kind = kindOf(manifest);
  return { kind, artifactType: kind === 'image' ? undefined : typeOf(manifest) };
}

/** An item as decisions see it. */
export function arriving({ component, node, platforms, target }: DeliveryItem): ArrivingComponent {
  const images = imagesByPlatform(node.manifest, platforms);
  return { component, digest: node.manifest.digest, repository: target.label, images };
}

/** An item as it stands in its repository, for the ledger. */
export function placed({ component, node, platforms, target, included }: DeliveryItem): PlacedComponent {
  const descriptor = describeManifest(node.manifest);
  return { component, repository: target.label, ...descriptor, platforms: [...platforms], included };
}
