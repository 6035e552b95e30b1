import picomatch from 'picomatch';
import { HodError } from '../core/errors';
import { readContentBelow, runnableImages, type RunnableImage } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { annotationKeys } from '../core/oci/annotations';
import { formatPlatform } from '../core/oci/platform';
import { formatRepository, parseRepository, type Repository, type RepositoryName } from '../core/oci/reference';
import { readDigestTag } from '../core/oci/referrers';
import { servedIn } from '../core/ledger/environment';
import { tagKey, type FactKey, type Facts, type RepositoryTidied } from '../core/ledger/facts';
import { FirstTags, kindByForm } from '../core/tags/listing';
import type { TagKind } from '../core/tags/rules';
import type { Tag } from '../core/oci/tag';
import { nearestName } from '../core/nearest';
import { repositoriesOf as namesOfRepositories } from '../registry/catalogue';
import { settleAll } from '../system/promises';
import type { RepositoryClient } from '../registry/repository';
import { withLedger } from '../session/open-ledger';
import type { Session } from '../session/session';
import { chosenComponents, environmentNamed, type Config } from '../workspace/config';

/** Which tags are asked for. */
export interface TagsQuestion {
  /** The name of an image or bundle of the product, or a repository. */
  readonly of: string;
  /** Only of the repository in this environment. */
  readonly environment?: string | undefined;
  /** Only tags that this pattern matches. */
  readonly find?: string | undefined;
}

/** A digest, and the tags that lead to it. */
export interface TaggedDigest {
  readonly digest: Digest;
  /** Undefined where it cannot be read, or is no manifest that Hod knows. */
  readonly mediaType: string | undefined;
  /** `known`: whether the ledger says which kind it is, or only its form. */
  readonly tags: readonly { readonly tag: Tag; readonly kind: TagKind; readonly known: boolean }[];
  readonly platforms: readonly string[];
  /** When it came here, by the ledger. */
  readonly since: string | undefined;
  /** When the newest of its images says that it was made. */
  readonly created: string | undefined;
  readonly revision: string | undefined;
  readonly version: string | undefined;
  /** The environments of hod.yaml that serve it. */
  readonly servedBy: readonly string[];
}

/** The tags of a repository, by what they lead to. `count`: how many it has that were asked for. */
export interface TaggedRepository {
  readonly repository: RepositoryName;
  /** Whether the registry has it: some make a repository with its first upload. */
  readonly exists: boolean;
  readonly count: number;
  /** What tidying has removed from it; undefined where it has removed nothing, or no ledger could be asked. */
  readonly tidied: RepositoryTidied | undefined;
  readonly digests: readonly TaggedDigest[];
}

/** Where tags are read: hod.yaml where there is one, and the session of the run. */
interface TagsContext {
  readonly config: Config | undefined;
  readonly session: Session;
}

/**
 * Reads the tags of an image in each environment, or of one repository: at most `most` of each.
 *
 * @throws {@link HodError} `no-repository` where none of them exists; `component-unknown`
 */
export async function readTags(
  question: TagsQuestion,
  most: number,
  { config, session }: TagsContext,
): Promise<TaggedRepository[]> {
  const repositories = repositoriesOf(question, config);
  const found = await settleAll(
    repositories.map((repository) => listTags(session.client(repository), question, most, { config, session })),
  );
  if (!found.some(({ exists }) => exists)) {
    throw await noRepository(repositories, session);
  }
  return found;
}

/** Tells the name of every tag that is asked for, as the registry lists them, one after the other. */
export async function eachTag(
  question: TagsQuestion,
  { config, session }: TagsContext,
  told: (tag: Tag) => Promise<void>,
): Promise<void> {
  const matches = patternOf(question);
  const repositories = repositoriesOf(question, config);
  let absent = 0;
  for (const repository of repositories) {
    for await (const tag of session.client(repository).tags.list(() => (absent += 1))) {
      if (matches(tag)) {
        await told(tag);
      }
    }
  }
  if (absent === repositories.length) {
    throw await noRepository(repositories, session);
  }
}

/** The error for repositories that no registry has, with the nearest name where the registry tells names. */
async function noRepository(repositories: readonly Repository[], session: Session): Promise<HodError> {
  const [first] = repositories;
  const nearest = first === undefined ? undefined : await nearestRepository(first, session);
  return new HodError('no-repository', {
    what: repositories.length === 1 ? 'there is no such repository' : 'these repositories do not exist',
    object: repositories.map(formatRepository),
    why: 'the registry does not know the name',
    next:
      nearest === undefined
        ? 'check the name; the first upload makes a repository on most registries'
        : `similar: ${nearest}`,
  });
}

/** The most names that a near one is looked for among. */
const namesLookedAt = 1000;

async function nearestRepository(repository: Repository, session: Session): Promise<string | undefined> {
  const names: string[] = [];
  try {
    for await (const name of namesOfRepositories(await session.connection(repository.registry))) {
      names.push(name);
      if (names.length === namesLookedAt) {
        break;
      }
    }
  } catch (error) {
    // Many registries do not tell; then there is nothing to propose.
    if (!(error instanceof HodError)) {
      throw error;
    }
  }
  const nearest = nearestName(repository.name, names);
  return nearest === undefined ? undefined : `${repository.registry}/${nearest}`;
}

function patternOf({ find }: TagsQuestion): (tag: string) => boolean {
  return find === undefined ? () => true : picomatch(find);
}

/** An image of hod.yaml has a repository in each environment. */
function repositoriesOf({ of, environment }: TagsQuestion, config: Config | undefined): Repository[] {
  if (config?.components.some(({ name }) => name === of) === true) {
    const environments = environment === undefined ? config.environments : [environmentNamed(config, environment)];
    const all = environments.map((each) => each.repositoryOf(of));
    return [...new Map(all.map((each) => [`${each.registry}/${each.name}`, each])).values()];
  }
  if (config !== undefined && !of.includes('/')) {
    // A name without a registry is meant to be one of hod.yaml.
    chosenComponents(config, [of]);
  }
  return [parseRepository(of)];
}

async function listTags(
  client: RepositoryClient,
  question: TagsQuestion,
  most: number,
  { config, session }: TagsContext,
): Promise<TaggedRepository> {
  const matches = patternOf(question);
  const first = new FirstTags(most);
  let exists = true;
  const absent = (): void => {
    exists = false;
  };
  for await (const tag of client.tags.list(absent)) {
    // Referrers are listed with their image (`hod show`), and here only where somebody asks for them.
    if (matches(tag) && (question.find !== undefined || readDigestTag(tag) === undefined)) {
      first.add(tag);
    }
  }
  const shown = first.first();
  const facts = await knownOf(config, session, client, shown);
  const leading = await settleAll(shown.map(async (tag) => ({ tag, digest: await client.manifests.resolve(tag) })));
  const groups = new Map<Digest, Tag[]>();
  for (const { tag, digest } of leading) {
    if (digest !== undefined) {
      groups.set(digest, [...(groups.get(digest) ?? []), tag]);
    }
  }
  return {
    repository: client.label,
    exists,
    count: first.count,
    tidied: facts?.get('tidied', client.label),
    digests: await settleAll(
      [...groups].map(async ([digest, tags]) =>
        describe({ digest, tags }, client, await readQuietly(client, digest), { facts, config }),
      ),
    ),
  };
}

/** What the ledger says of tags, and of what environments serve; nothing where there is none to be read. */
async function knownOf(
  config: Config | undefined,
  session: Session,
  client: RepositoryClient,
  shown: readonly Tag[],
): Promise<Facts | undefined> {
  if (config === undefined) {
    return undefined;
  }
  const keys = [
    ...shown.map((tag): FactKey => ({ kind: 'tag', key: tagKey(client.label, tag) })),
    ...config.environments.map(({ name }): FactKey => ({ kind: 'environment', key: name })),
    { kind: 'tidied', key: client.label } as const,
  ];
  try {
    return await withLedger(config, session, 'read', async (ledger) => {
      const { facts } = await ledger.read(keys);
      const releases = shown.flatMap((tag) => facts.get('tag', tagKey(client.label, tag))?.release ?? []);
      const all = [...keys, ...new Set(releases.map((release): FactKey => ({ kind: 'release', key: release })))];
      return releases.length === 0 ? facts : (await ledger.read(all)).facts;
    });
  } catch (error) {
    // Tags can be listed by whoever may not read the ledger.
    if (!(error instanceof HodError)) {
      throw error;
    }
    session.observer.note(`what the ledger knows is left out: ${error.message}`);
    return undefined;
  }
}

interface ReadQuietly {
  readonly mediaType: string | undefined;
  /** The commit that the manifest itself says. */
  readonly revision: string | undefined;
  readonly images: readonly RunnableImage[];
}

/** What a digest is; what cannot be read, or is of another kind, is listed all the same. */
async function readQuietly(client: RepositoryClient, digest: Digest): Promise<ReadQuietly> {
  try {
    const manifest = await client.manifests.get(digest);
    return manifest === undefined
      ? { mediaType: undefined, revision: undefined, images: [] }
      : {
          mediaType: manifest.mediaType,
          revision: manifest.annotations.get(annotationKeys.revision),
          images: await runnableImages(await readContentBelow(client, manifest)),
        };
  } catch (error) {
    if (error instanceof HodError && ['corrupt', 'missing', 'refused'].includes(error.fault)) {
      return { mediaType: undefined, revision: undefined, images: [] };
    }
    throw error;
  }
}

function describe(
  { digest, tags: names }: { digest: Digest; tags: readonly Tag[] },
  client: RepositoryClient,
  { mediaType, revision, images }: ReadQuietly,
  { facts, config }: { facts: Facts | undefined; config: Config | undefined },
): TaggedDigest {
  const created = images
    .flatMap((image) => image.created ?? [])
    .sort()
    .at(-1);
  return {
    digest,
    mediaType,
    tags: names.map((tag) => {
      const kind = facts?.get('tag', tagKey(client.label, tag))?.kind;
      return { tag, kind: kind ?? kindByForm(tag), known: kind !== undefined };
    }),
    platforms: images.map(({ platform }) => formatPlatform(platform)),
    since: facts && config && arrivalOf({ digest, tags: names }, client.label, facts, config),
    created,
    revision: revision ?? images.find(({ revision }) => revision !== undefined)?.revision,
    version: images.find(({ version }) => version !== undefined)?.version,
    servedBy: (config?.environments ?? [])
      .filter(
        ({ name }) =>
          facts !== undefined &&
          servedIn(facts, name).some(
            ({ repository, digest: served, images: own = [] }) =>
              repository === client.label && [served, ...own.map((image) => image.digest)].includes(digest),
          ),
      )
      .map(({ name }) => name),
  };
}

/** When the release of a digest first came into an environment that has it here. */
function arrivalOf(
  { digest, tags }: { digest: Digest; tags: readonly Tag[] },
  repository: RepositoryName,
  facts: Facts,
  { environments }: Config,
): string | undefined {
  const isHere = (environment: string, component: string): boolean =>
    environments.some(
      (each) => each.name === environment && formatRepository(each.repositoryOf(component)) === repository,
    );
  const times = tags.flatMap((tag) => {
    const target = facts.get('tag', tagKey(repository, tag));
    const release = target?.digest === digest ? facts.get('release', target.release) : undefined;
    // A tag of a platform leads to an image of the component, which the release does not name.
    const isMeant = (each: { readonly digest: Digest }): boolean =>
      each.digest === digest || target?.platform !== undefined;
    const own = release?.components.filter(isMeant).map(({ component }) => component) ?? [];
    return (release?.arrived ?? [])
      .filter(({ component, environment }) => own.includes(component) && isHere(environment, component))
      .map(({ since }) => since);
  });
  return times.sort().at(0);
}
