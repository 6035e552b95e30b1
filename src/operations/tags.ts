import picomatch from 'picomatch';
import { HodError } from '../core/errors';
import { readContentBelow, runnableImages, type RunnableImage } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { formatPlatform } from '../core/oci/platform';
import { parseRepository, type Repository } from '../core/oci/reference';
import { readDigestTag } from '../core/oci/referrers';
import { servedIn } from '../core/ledger/environment';
import { tagKey, type FactKey, type Facts } from '../core/ledger/facts';
import { FirstTags, kindByForm } from '../core/tags/listing';
import type { Tag } from '../core/tags/tag';
import { allSettled } from '../delivery/carry';
import type { RepositoryClient } from '../registry/repository';
import type { TagsResult } from '../results/tags';
import { withLedger } from '../session/open-ledger';
import { withProductIfAny, type Session, type SessionOptions } from '../session/session';
import { environmentNamed, type Config } from '../workspace/config';

/** What `tags` is told. */
export interface TagsOptions extends SessionOptions {
  /** The name of an image or bundle of the product, or a repository. */
  of: string;
  /** Only of the repository in this environment. */
  environment?: string | undefined;
  /** Only tags that this pattern matches. */
  find?: string | undefined;
  /** How many tags are looked at. */
  most: number;
}

type Group = TagsResult['repositories'][number]['digests'][number];

/** The tags of an image in each environment, or of one repository, by what they lead to. */
export async function tags(options: TagsOptions): Promise<TagsResult> {
  return withProductIfAny(options, async (config, session) => ({
    repositories: await allSettled(
      repositoriesOf(options, config).map((repository) =>
        listTags(session.client(repository), options, config, session),
      ),
    ),
  }));
}

/** The name of every tag, as the registry lists them, one after the other. */
export async function eachTag(options: TagsOptions, told: (tag: Tag) => Promise<void>): Promise<void> {
  await withProductIfAny(options, async (config, session) => {
    const matches = patternOf(options);
    for (const repository of repositoriesOf(options, config)) {
      for await (const tag of session.client(repository).tags.list()) {
        if (matches(tag)) {
          await told(tag);
        }
      }
    }
  });
}

function patternOf({ find }: TagsOptions): (tag: string) => boolean {
  return find === undefined ? () => true : picomatch(find);
}

/** An image of hod.yaml has a repository in each environment. */
function repositoriesOf({ of, environment }: TagsOptions, config: Config | undefined): Repository[] {
  if (config?.components.some(({ name }) => name === of) === true) {
    const environments = environment === undefined ? config.environments : [environmentNamed(config, environment)];
    const all = environments.map((each) => each.repositoryOf(of));
    return [...new Map(all.map((each) => [`${each.registry}/${each.name}`, each])).values()];
  }
  return [parseRepository(of)];
}

async function listTags(
  client: RepositoryClient,
  options: TagsOptions,
  config: Config | undefined,
  session: Session,
): Promise<TagsResult['repositories'][number]> {
  const matches = patternOf(options);
  const first = new FirstTags(options.most);
  for await (const tag of client.tags.list()) {
    // What belongs to an image is listed with it (`hod show`), and here only where somebody asks for it.
    if (matches(tag) && (options.find !== undefined || readDigestTag(tag) === undefined)) {
      first.add(tag);
    }
  }
  const shown = first.first();
  const facts = await knownOf(config, session, client, shown);
  const leading = await allSettled(shown.map(async (tag) => ({ tag, digest: await client.manifests.resolve(tag) })));
  const groups = new Map<Digest, Tag[]>();
  for (const { tag, digest } of leading) {
    if (digest !== undefined) {
      groups.set(digest, [...(groups.get(digest) ?? []), tag]);
    }
  }
  return {
    repository: client.label,
    count: first.count,
    digests: await allSettled([...groups].map(([digest, names]) => describe(client, digest, names, facts, config))),
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
  ];
  try {
    return await withLedger(config, session, 'read', async (ledger) => (await ledger.read(keys)).facts);
  } catch (error) {
    // Tags can be listed by whoever may not read the ledger.
    if (!(error instanceof HodError)) {
      throw error;
    }
    session.observer.note(`what the ledger knows is left out: ${error.message}`);
    return undefined;
  }
}

/** What a digest is; what cannot be read, or is of another kind, is listed all the same. */
async function readQuietly(
  client: RepositoryClient,
  digest: Digest,
): Promise<{ mediaType: string | null; images: readonly RunnableImage[] }> {
  try {
    const manifest = await client.manifests.get(digest);
    return manifest === undefined
      ? { mediaType: null, images: [] }
      : { mediaType: manifest.mediaType, images: await runnableImages(await readContentBelow(client, manifest)) };
  } catch (error) {
    if (error instanceof HodError && ['corrupt', 'missing', 'refused'].includes(error.fault)) {
      return { mediaType: null, images: [] };
    }
    throw error;
  }
}

async function describe(
  client: RepositoryClient,
  digest: Digest,
  names: readonly Tag[],
  facts: Facts | undefined,
  config: Config | undefined,
): Promise<Group> {
  const { mediaType, images } = await readQuietly(client, digest);
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
    created: created ?? null,
    revision: images.find(({ revision }) => revision !== undefined)?.revision ?? null,
    version: images.find(({ version }) => version !== undefined)?.version ?? null,
    servedBy: (config?.environments ?? [])
      .filter(
        ({ name }) =>
          facts !== undefined &&
          servedIn(facts, name).some((each) => each.digest === digest && each.repository === client.label),
      )
      .map(({ name }) => name),
  };
}
