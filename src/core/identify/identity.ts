import { digestFact, digestRoles, type FactKey, type Facts, type KnownDigest, type Release } from '../ledger/facts';
import type { ReleaseId } from '../ledger/release';
import { isMeantBy, type Digest } from '../oci/digest';
import { decided, factNeed, type Decision, type Knowledge } from '../release/knowledge';

/** A release as answers tell it: without all that the ledger knows of it, as a text may name thousands. */
export type ToldRelease = Pick<Release, 'release' | 'version' | 'commit' | 'branch' | 'build' | 'run' | 'at' | 'by'>;

/** What a digest is, by a ledger. */
export interface Identity<R extends ToldRelease = ToldRelease> {
  readonly digest: Digest;
  readonly is: KnownDigest['is'] | 'layer';
  /** `os/arch[/variant]` of an image or a config. */
  readonly platform: string | undefined;
  /** The artifact type of a referrer. */
  readonly type: string | undefined;
  /** The components that it is, is in, or refers to, each with the releases that hold it. */
  readonly components: readonly HoldingComponent<R>[];
}

/** A component that was released, and the releases that hold it. */
export interface HoldingComponent<R extends ToldRelease = ToldRelease> {
  readonly component: string;
  readonly digest: Digest;
  /** The latest first, and last the first of all: as many as the ledger keeps. */
  readonly releases: readonly R[];
  /** How many there are. */
  readonly count: number;
}

/** What digits stand for: nothing that the ledger knows, one digest, or several that begin so. */
export type DigestFinding<R extends ToldRelease = ToldRelease> =
  | { readonly kind: 'unknown' }
  | { readonly kind: 'known'; readonly identity: Identity<R> }
  | { readonly kind: 'ambiguous'; readonly digests: readonly Digest[] };

/** A referrer of an image of a component: no way from content to its component is longer. */
const mostSteps = 4;

/** Finds out what a digest is, or one that begins with some digits, eight at least. */
export function decideIdentity(text: string, known: Knowledge): Decision<DigestFinding<Release>> {
  const unknown = known.missing([{ kind: 'fact', fact: digestFact(text) }]);
  if (unknown !== undefined) {
    return unknown;
  }
  const matching = knownAs(text, known.facts);
  const digests = [...new Set(matching.map(({ digest }) => digest))];
  const [digest, ...others] = digests;
  // One image may be a component and a part of an index.
  const [first] = digestRoles.flatMap((role) => matching.filter(({ is }) => is === role));
  if (digest === undefined || first === undefined) {
    return decided({ kind: 'unknown' });
  }
  if (others.length > 0) {
    return decided({ kind: 'ambiguous', digests });
  }
  const holders = componentsHolding(matching, known);
  if (holders.kind !== 'decided') {
    return holders;
  }
  const components = withReleases(holders.value, known);
  if (components.kind !== 'decided') {
    return components;
  }
  const { is, platform, type } = first;
  return decided({ kind: 'known', identity: { digest, is, platform, type, components: components.value } });
}

/** Whether a ledger knows a digest, or one that begins so. `facts`: the fact about its first digits is known. */
export function isKnownDigest(text: string, facts: Facts): boolean {
  return knownAs(text, facts).length > 0;
}

function knownAs(text: string, facts: Facts): KnownDigest[] {
  const { key } = digestFact(text);
  return (facts.get('digest', key) ?? []).filter(({ digest }) => isMeantBy(text, digest));
}

/** Goes from content to what holds it, up to components. */
function componentsHolding(from: readonly KnownDigest[], known: Knowledge): Decision<readonly KnownDigest[]> {
  const components = new Map<string, KnownDigest>();
  let level = from;
  for (let step = 0; step < mostSteps && level.length > 0; step += 1) {
    level
      .filter(({ is }) => is === 'component')
      .forEach((each) => components.set(`${each.component ?? ''} ${each.digest}`, each));
    const above = [...new Set(level.flatMap(({ of = [] }) => of))];
    const unknown = known.missing(above.map((digest) => ({ kind: 'fact', fact: digestFact(digest) })));
    if (unknown !== undefined) {
      return unknown;
    }
    level = above.flatMap((digest) => knownAs(digest, known.facts));
  }
  return decided([...components.values()]);
}

function withReleases(
  components: readonly KnownDigest[],
  known: Knowledge,
): Decision<readonly HoldingComponent<Release>[]> {
  const ids = new Set(components.flatMap(({ releases = [] }) => releases));
  const unknown = known.missing([...ids].map((id) => factNeed('release', id)));
  if (unknown !== undefined) {
    return unknown;
  }
  const value = components.map(({ component = '', digest, releases = [], count = 0 }) => {
    const found = [...releases].reverse().flatMap((id: ReleaseId) => known.facts.get('release', id) ?? []);
    return { component, digest, releases: found, count };
  });
  return decided(value);
}

/** The facts by which mentions are told apart from what the ledger does not know. */
export function factsOfMentions(texts: readonly string[]): FactKey[] {
  return [...new Map(texts.map((text) => [digestFact(text).key, digestFact(text)])).values()];
}
