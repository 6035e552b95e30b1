import { HodError } from '../core/errors';
import type { ContentNode } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { describeManifest } from '../core/oci/manifest';
import type { Action, LandedImage, Landing } from '../core/release/entry';
import type { FactKey, Facts } from '../core/release/facts';
import type { Ancestry, Position } from '../core/tags/ordering';
import { wantedTags, type TagFacts, type WantedTags } from '../core/tags/rules';
import type { Ledger } from '../ledger/ledger';
import type { RepositoryClient } from '../registry/repository';
import type { CarryTarget, Limit } from '../registry/transfer';
import type { EnvironmentConfig } from '../workspace/config';
import type { Observer } from './session';

/** The repository that an image or bundle goes to. */
export type DeliveryTarget = CarryTarget &
  Pick<RepositoryClient, 'manifest' | 'tags' | 'deleteTag' | 'requests' | 'readManifest' | 'openBlob'>;

/** An image or bundle on its way into an environment. */
export interface DeliveryImage {
  readonly image: string;
  readonly node: ContentNode;
  readonly platforms: readonly string[];
  readonly target: DeliveryTarget;
}

/** What a delivery means to do, by what the ledger says at a moment. */
export interface Plan {
  readonly position: Position & { readonly commit: string };
  /** The release, by its id. */
  readonly release: Digest;
  /** The tags of each image. */
  readonly tags: ReadonlyMap<string, WantedTags>;
  /** A version was held back because a newer build has the next one; the reason. */
  readonly late?: string | undefined;
}

/** A release on its way into an environment. */
export interface Delivery<P extends Plan> {
  readonly product: string;
  readonly environment: string;
  readonly images: readonly DeliveryImage[];
  /** The facts that `plan` reads. */
  readonly needs: readonly FactKey[];
  /** Plans anew whenever the ledger has changed. */
  plan(facts: Facts): Promise<P>;
  /** Throws where a rule forbids the plan. Asked after the fixed tags were looked at, whose refusal says more. */
  permit(plan: P, facts: Facts): void;
  /** What to write into the ledger. */
  action(plan: P, landing: Pick<Landing, 'images' | 'tags' | 'current'>): Action;
}

/** How commits stand to each other. */
export interface Orders {
  around(commit: string, others: readonly string[]): Promise<Ancestry>;
}

/** What a delivery works with. */
export interface DeliveryContext {
  readonly ledger: Ledger;
  readonly history: Orders;
  readonly limit: Limit;
  readonly observer: Pick<Observer, 'transfer' | 'recorded'>;
  /** Who does it, for the ledger. */
  readonly actor: string;
  readonly dryRun: boolean;
  /** Refuse where a moving tag, or a version, would be held by the order of builds. */
  readonly strictOrder: boolean;
}

/** An image and its digest. */
export function identified({ image, node }: DeliveryImage): { image: string; digest: Digest } {
  return { image, digest: node.manifest.digest };
}

/** An image as it stands in a repository, for the ledger. */
export function landed({ image, node, platforms, target }: DeliveryImage): LandedImage {
  return { image, repository: target.label, ...describeManifest(node.manifest), platforms: [...platforms] };
}

/**
 * The tags of every image in an environment. Throws `usage` where no rule gives a tag for one, unless
 * its version was held: then there may be nothing to tag.
 */
export function tagsIn(
  { name, rules }: EnvironmentConfig,
  images: readonly DeliveryImage[],
  facts: TagFacts,
  held = false,
): ReadonlyMap<string, WantedTags> {
  return new Map(
    images.map(({ image }) => {
      const tags = wantedTags(rules, facts, image);
      if (tags.wanted.length === 0 && !held) {
        refuseWithoutTags(`${image} in ${name}`, tags);
      }
      return [image, tags];
    }),
  );
}

function refuseWithoutTags(object: string, { left }: WantedTags): never {
  const lacks = [...new Set(left.map((each) => each.lacks))].join(', ');
  const option = lacks.includes('branch') ? '--branch' : '--version';
  throw new HodError('usage', {
    what: 'nothing would be tagged',
    object,
    why: `every tag rule needs something that is not there: ${lacks}`,
    next: lacks.includes('working copy')
      ? 'commit the changes and build again, or add a moving tag to hod.yaml'
      : `give it (${option}), or add a rule such as "c-{commit:12}" to hod.yaml`,
  });
}
