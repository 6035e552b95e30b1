import { everyNameOf } from '../core/build/component';
import type { CommitId } from '../core/commit';
import { factsOfRemovals } from '../core/ledger/entries/there-again';
import { manifestKey, removalOf, tagKey, targetOf } from '../core/ledger/facts';
import type { FactKey, Facts, ManifestRemoval } from '../core/ledger/facts';
import type { ManifestPlace } from '../core/ledger/relied-on';
import { isDigest } from '../core/oci/digest';
import { factsOfMentions, isKnownDigest } from '../core/identify/identity';
import type { CountedMention, Mention } from '../core/identify/mentions';
import { decideServed, type EnvironmentStanding } from '../core/identify/standing';
import { decideWhole, type IdentifiedDigest, type ProductInView } from '../core/identify/whole';
import type { FoundMention, OwnPlace, OwnRepositories } from '../core/identify/verdict';
import { formatRepository, parseRepository, type RepositoryName } from '../core/oci/reference';
import { together, type Decision, type Knowledge } from '../core/release/knowledge';
import { answerFrom } from '../ledger/fact-reader';
import type { Ledger } from '../ledger/ledger';
import { commitsBetween, commitTimes } from '../workspace/git';
import type { Config } from '../workspace/config';
import { readInParts } from './facts-in-parts';
import { readServing } from './lines';

/** What identifying is read from. */
export interface IdentifyContext {
  readonly config: Config;
  readonly ledger: Ledger;
  readonly inView: ProductInView;
}

/**
 * Finds out what mentions are. Bare digits that the ledger does not know, and what only has the form of a reference, are left out.
 */
export async function identifyMentions(
  all: readonly CountedMention[],
  { config, ledger, inView }: IdentifyContext,
): Promise<FoundMention[]> {
  const own = ownRepositories(config, await placesBefore(config, ledger));
  const hosts = new Set([...own.keys()].map((name) => parseRepository(name).registry));
  const meant = all.filter(({ mention }) => isMeant(mention, own, hosts));
  const tags = await readTags(
    meant.map(({ mention }) => mention),
    own,
    ledger,
  );
  const tagOf = ({ repository, tag }: Mention) =>
    repository === undefined || tag === undefined ? undefined : tags.get(tagKey(repository, tag));
  const digestOf = (mention: Mention): string | undefined =>
    mention.digest ?? mention.digits ?? targetOf(tagOf(mention))?.digest;
  // Most digests of a text are of something else: only those that the ledger knows are decided about.
  const digests = meant.flatMap(({ mention }) => digestOf(mention) ?? []);
  const known = await decideAll(await readKnown(digests, ledger), ledger, (text, knowledge) =>
    decideWhole(text, inView, knowledge),
  );
  const placeOf = (mention: Mention): ManifestPlace[] => {
    const { repository } = mention;
    const digest = digestOf(mention) ?? '';
    return repository !== undefined && isDigest(digest) && known.has(digest) ? [{ repository, digest }] : [];
  };
  const removals = await readRemovals(
    meant.flatMap(({ mention }) => placeOf(mention)),
    ledger,
  );
  return meant.flatMap(({ mention, times }): FoundMention[] => {
    const { repository, sureness, digits } = mention;
    const found = known.get(digestOf(mention) ?? '');
    if (found === undefined && sureness === 'possible' && digits !== undefined) {
      return [];
    }
    const tag = tagOf(mention);
    const [place] = placeOf(mention);
    return [
      {
        ...{ mention, times },
        ...(found ?? nothingKnown),
        at: repository === undefined ? undefined : own.get(repository),
        removed: place && removals.get(manifestKey(place.repository, place.digest)),
        tag: tag && { kind: tag.kind, gone: tag.gone === true || tag.tidied === true },
      },
    ];
  });
}

/** Texts name thousands of digests that are of something else: they share one answer. */
const nothingKnown: IdentifiedDigest = { identified: { kind: 'unknown' }, standings: [] };

/** Reads what content is compared with: what each environment serves, served before, and serves on lines. */
export async function productInView({
  config,
  ledger,
}: Pick<IdentifyContext, 'config' | 'ledger'>): Promise<ProductInView> {
  const { components, environments } = config;
  const { serving } = await readServing(
    environments.map(({ name }) => name),
    ledger,
  );
  const before = await answerFrom(ledger, (known) =>
    together(serving.map(({ environment }) => decideServed(environment, known))),
  );
  return {
    environments: serving.map((each, at) => ({ ...each, served: before[at] ?? [] })),
    namesOf: (component) => everyNameOf(components, component),
  };
}

/** So many digests are decided about at once: what the ledger says of more is not held in memory. */
const decidedAtOnce = 200;

/** Decides what digests are, and how they stand to environments. */
export async function decideAll(
  texts: readonly string[],
  ledger: Ledger,
  decide: (text: string, known: Knowledge) => Decision<IdentifiedDigest>,
): Promise<ReadonlyMap<string, IdentifiedDigest>> {
  const all = new Map<string, IdentifiedDigest>();
  for (let from = 0; from < texts.length; from += decidedAtOnce) {
    const part = texts.slice(from, from + decidedAtOnce);
    const answers = await answerFrom(ledger, (known) => together(part.map((text) => decide(text, known))));
    part.forEach((text, at) => {
      const found = answers[at];
      if (found !== undefined) {
        all.set(text, found);
      }
    });
  }
  return all;
}

/** Whether a mention may be one at all: what has the form of a reference counts where its host is one of the product's. */
function isMeant({ sureness, repository }: Mention, own: OwnRepositories, hosts: ReadonlySet<string>): boolean {
  return (
    sureness === 'certain' ||
    repository === undefined ||
    own.has(repository) ||
    hosts.has(parseRepository(repository).registry)
  );
}

/** The repositories of a product, those that environments moved from too, and what they are of, by the names of then and of now. */
function ownRepositories({ components, environments }: Config, known: readonly KnownPlace[]): OwnRepositories {
  const own = new Map<RepositoryName, OwnPlace[]>();
  const add = (repository: RepositoryName, environment: string, component: string): void => {
    const names = new Set([component, ...everyNameOf(components, component)]);
    const places = [...names].map((name) => ({ environment, component: name }));
    own.set(repository, [...(own.get(repository) ?? []), ...places]);
  };
  for (const { name, was } of components) {
    for (const environment of environments) {
      [name, ...was].forEach((each) => {
        add(formatRepository(environment.repositoryOf(each)), environment.name, name);
      });
    }
  }
  known.forEach(({ environment, component, repository }) => {
    add(repository, environment, component);
  });
  return own;
}

/** A repository that an environment has, or had, a component in. */
interface KnownPlace extends OwnPlace {
  readonly repository: RepositoryName;
}

async function placesBefore({ environments }: Config, ledger: Ledger): Promise<KnownPlace[]> {
  const keys = environments.map(({ name }): FactKey => ({ kind: 'environment', key: name }));
  const { facts } = await ledger.read(keys, 'known');
  return environments.flatMap(({ name: environment }) => {
    const { components = [], places = [] } = facts.get('environment', environment) ?? {};
    return [
      ...components.map(({ component, repository }) => ({ environment, component, repository })),
      ...places.flatMap(({ component, former }) =>
        former.map((repository) => ({ environment, component, repository })),
      ),
    ];
  });
}

/** Reads where the tags of the product lead by its ledger. */
async function readTags(mentions: readonly Mention[], own: OwnRepositories, ledger: Ledger) {
  const keys = mentions.flatMap(({ repository, tag, digest }): FactKey[] =>
    repository === undefined || tag === undefined || digest !== undefined || !own.has(repository)
      ? []
      : [{ kind: 'tag', key: tagKey(repository, tag) }],
  );
  const found = new Map<string, NonNullable<ReturnType<typeof tagIn>>>();
  await readInParts(
    keys,
    (part) => part,
    ledger,
    (part, facts) => {
      for (const { key } of part) {
        const tag = tagIn(facts, key);
        if (tag !== undefined) {
          found.set(key, tag);
        }
      }
    },
  );
  return found;
}

/** Reads which manifests tidying removes, or has removed, by their names in full. */
async function readRemovals(places: readonly ManifestPlace[], ledger: Ledger): Promise<Map<string, ManifestRemoval>> {
  const found = new Map<string, ManifestRemoval>();
  await readInParts(places, factsOfRemovals, ledger, (part, facts) => {
    for (const { repository, digest } of part) {
      const removal = removalOf(facts, repository, digest);
      if (removal !== undefined) {
        found.set(manifestKey(repository, digest), removal);
      }
    }
  });
  return found;
}

function tagIn(facts: Facts, key: string) {
  return facts.get('tag', key);
}

/** Returns those of some digests, or of the digits that they begin with, that the ledger knows. */
async function readKnown(texts: readonly string[], ledger: Ledger): Promise<string[]> {
  const known: string[] = [];
  await readInParts([...new Set(texts)], factsOfMentions, ledger, (part, facts) => {
    known.push(...part.filter((text) => isKnownDigest(text, facts)));
  });
  return known;
}

/** So many distances between commits are asked for. */
const mostDistances = 50;

/** Counts the commits by which what is behind is behind; undefined where git does not know. */
export async function commitsBehind(
  found: readonly FoundMention[],
  { folder }: Pick<Config, 'folder'>,
): Promise<(standing: EnvironmentStanding) => number | undefined> {
  const pairs = new Map<string, readonly [CommitId, CommitId]>();
  for (const { state, release, serves } of found.flatMap(({ standings }) => standings)) {
    if (state === 'behind' && release !== undefined && serves !== undefined && pairs.size < mostDistances) {
      pairs.set(`${release.commit} ${serves.commit}`, [release.commit, serves.commit]);
    }
  }
  const known = await commitTimes(folder, [...pairs.values()].flat());
  const counts = new Map(
    await Promise.all(
      [...pairs]
        .filter(([, pair]) => pair.every((each) => known.has(each)))
        .map(async ([key, [from, to]]): Promise<[string, number | undefined]> => {
          const between = await commitsBetween(folder, from, to);
          return [key, 'gap' in between ? undefined : between.commits.length];
        }),
    ),
  );
  return ({ release, serves }) => counts.get(`${release?.commit ?? ''} ${serves?.commit ?? ''}`);
}
