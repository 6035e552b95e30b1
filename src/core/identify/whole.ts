import type { Release } from '../ledger/facts';
import { decided, together, type Decision, type Knowledge } from '../release/knowledge';
import { decideIdentity, type DigestFinding, type HoldingComponent } from './identity';
import type { ContentWithin } from './layers';
import { bestOf, decideStanding, type EnvironmentInView, type EnvironmentStanding } from './standing';
import type { FoundMention } from './verdict';

/** What a digest is, and how its components stand to environments. */
export type IdentifiedDigest = Pick<FoundMention, 'identified' | 'standings'>;

/** The environments that content is compared with, and every name that a component has had. */
export interface ProductInView {
  readonly environments: readonly EnvironmentInView[];
  readonly namesOf: (component: string) => readonly string[];
}

/** Decides what a digest is, and how each of its components stands to each environment. */
export function decideWhole(text: string, product: ProductInView, known: Knowledge): Decision<IdentifiedDigest> {
  const identified = decideIdentity(text, known);
  if (identified.kind !== 'decided') {
    return identified;
  }
  const { value } = identified;
  return withStandings(value, value.kind === 'known' ? value.identity.components : [], product, known);
}

/** Decides the same of layers or configs that registries told of: by the components that hold them. */
export function decideWithin(
  found: readonly ContentWithin[],
  product: ProductInView,
  known: Knowledge,
): Decision<IdentifiedDigest> {
  const [content, ...others] = found;
  if (content === undefined || others.length > 0) {
    const digests = found.map(({ digest }) => digest);
    const identified: DigestFinding<Release> =
      content === undefined ? { kind: 'unknown' } : { kind: 'ambiguous', digests };
    return decided({ identified, standings: [] });
  }
  const digests = new Set(content.holders.map(({ digest }) => digest));
  const identities = together([...digests].map((each) => decideIdentity(each, known)));
  if (identities.kind !== 'decided') {
    return identities;
  }
  const holdings = identities.value
    .flatMap((each) => (each.kind === 'known' ? each.identity.components : []))
    .filter((each) =>
      content.holders.some(({ component, digest }) => component === each.component && digest === each.digest),
    );
  const { digest, is, platform } = content;
  const identity = { digest, is, platform, type: undefined, components: mergedByName(holdings) };
  return withStandings({ kind: 'known', identity }, holdings, product, known);
}

function withStandings(
  identified: DigestFinding<Release>,
  holdings: readonly HoldingComponent<Release>[],
  { environments, namesOf }: ProductInView,
  known: Knowledge,
): Decision<IdentifiedDigest> {
  const standings = together(
    holdings.flatMap((holding) =>
      environments.map((each) => decideStanding(holding, each, namesOf(holding.component), known)),
    ),
  );
  return standings.kind === 'decided'
    ? decided({ identified: told(identified), standings: bestOfEach(standings.value) })
    : standings;
}

/** The same, with no more of the releases than answers tell. */
function told(found: DigestFinding<Release>): DigestFinding {
  if (found.kind !== 'known') {
    return found;
  }
  const components = found.identity.components.map((holding) => ({
    ...holding,
    releases: holding.releases.map(({ release, version, commit, branch, build, run, at, by }) => {
      return { release, version, commit, branch, build, run, at, by };
    }),
  }));
  return { kind: 'known', identity: { ...found.identity, components } };
}

/** Several digests of one component may hold the same layer: how the best of them stands is the answer. */
function bestOfEach(standings: readonly EnvironmentStanding[]): EnvironmentStanding[] {
  const best = new Map<string, EnvironmentStanding>();
  for (const standing of standings) {
    const key = `${standing.component} ${standing.environment}`;
    const other = best.get(key);
    best.set(key, other === undefined ? standing : bestOf(other, standing));
  }
  return [...best.values()];
}

/** The releases of one component that hold the same content under several digests, as one. */
function mergedByName(holdings: readonly HoldingComponent<Release>[]): HoldingComponent<Release>[] {
  const merged = new Map<string, HoldingComponent<Release>>();
  for (const holding of holdings) {
    const other = merged.get(holding.component);
    merged.set(holding.component, other === undefined ? holding : joined(other, holding));
  }
  return [...merged.values()];
}

function joined(one: HoldingComponent<Release>, other: HoldingComponent<Release>): HoldingComponent<Release> {
  const releases = [...one.releases, ...other.releases].sort((a, b) => b.at.localeCompare(a.at));
  const latest = [one, other].find((each) => each.releases.some((release) => release === releases[0])) ?? one;
  return { ...latest, releases, count: one.count + other.count };
}
