import type { ManifestRemoval } from '../ledger/facts';
import type { RepositoryName } from '../oci/reference';
import type { DigestFinding } from './identity';
import type { Mention } from './mentions';
import type { EnvironmentStanding, StandingState } from './standing';

/** What a mention is to an environment in which it is said to run. */
export const verdicts = [
  'current',
  'behind',
  'withdrawn',
  'held',
  'never',
  'elsewhere',
  'foreign',
  'moving',
  'unknown',
  'ambiguous',
] as const;
export type IdentifyVerdict = (typeof verdicts)[number];

/** Where a tag leads by the ledger; undefined where the ledger does not know the tag. */
export interface KnownTag {
  readonly kind: 'fixed' | 'moving';
  readonly gone: boolean;
}

/** An environment that has a component in some repository. */
export interface OwnPlace {
  readonly environment: string;
  readonly component: string;
}

/** The repositories of a product, and what they are of. */
export type OwnRepositories = ReadonlyMap<RepositoryName, readonly OwnPlace[]>;

/** A mention, and what was found out about it. */
export interface FoundMention {
  readonly mention: Mention;
  readonly times: number;
  /** That tidying removes it from the repository that is named, or has removed it. */
  readonly removed: ManifestRemoval | undefined;
  readonly identified: DigestFinding;
  /** The environments and components whose repository the reference names; undefined where it is no reference of the product. */
  readonly at: readonly OwnPlace[] | undefined;
  readonly tag: KnownTag | undefined;
  readonly standings: readonly EnvironmentStanding[];
}

/** The worst of several standings first: content may be of several components. */
const worstFirst: readonly StandingState[] = ['withdrawn', 'never', 'held', 'behind', 'current'];

/**
 * Tells what a mention is to an environment: `elsewhere` for what it serves, in the repository of another environment or component;
 * `foreign` for the reference of another repository that the ledger knows nothing of; `moving` for a tag that moves, which does not say what was pulled
 * under it.
 */
export function verdictIn(found: FoundMention, environment: string): IdentifyVerdict {
  const { mention, identified, at, tag } = found;
  if (identified.kind === 'ambiguous') {
    return 'ambiguous';
  }
  if (identified.kind === 'unknown') {
    return mention.repository !== undefined && at === undefined ? 'foreign' : 'unknown';
  }
  const own = found.standings.filter((each) => each.environment === environment).map(({ state }) => state);
  const state = own.includes('current') ? 'current' : (worstFirst.find((each) => own.includes(each)) ?? 'never');
  if (state !== 'current') {
    return state;
  }
  const isRight = ({ environment: name, component }: OwnPlace): boolean =>
    name === environment && componentsOf(found).includes(component);
  if (at !== undefined && !at.some(isRight)) {
    return 'elsewhere';
  }
  return mention.digest === undefined && mention.tag !== undefined && tag?.kind === 'moving' ? 'moving' : 'current';
}

/**
 * Whether everything that was found is what an environment serves. A tag that moves says nothing by itself: a digest of its component, or
 * a tag that does not move, must stand beside it. Nothing found is not everything.
 */
export function isAllServed(found: readonly FoundMention[], environment: string): boolean {
  const judged = found.map((each) => ({ each, verdict: verdictIn(each, environment) }));
  const proven = new Set(
    judged.filter(({ verdict }) => verdict === 'current').flatMap(({ each }) => componentsOf(each)),
  );
  return (
    judged.length > 0 &&
    judged.every(
      ({ each, verdict }) =>
        verdict === 'current' || (verdict === 'moving' && componentsOf(each).every((name) => proven.has(name))),
    )
  );
}

function componentsOf({ identified }: FoundMention): string[] {
  return identified.kind === 'known' ? identified.identity.components.map(({ component }) => component) : [];
}
