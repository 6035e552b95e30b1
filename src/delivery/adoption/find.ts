import { isFollowed } from '../../core/build/following';
import type { CommitId } from '../../core/commit';
import { HodError } from '../../core/errors';
import { annotationKeys } from '../../core/oci/annotations';
import {
  imagesByPlatform,
  readContentBelow,
  runnableImages,
  type PlatformImage,
  type RunnableImage,
} from '../../core/oci/content';
import type { Digest } from '../../core/oci/digest';
import { describeManifest, type Manifest } from '../../core/oci/manifest';
import { formatPlatform } from '../../core/oci/platform';
import type { Tag } from '../../core/oci/tag';
import type { LeftTag } from '../../core/release/adoption';
import { showingTags, versionTagsIn, type ShowingTag } from '../../core/release/adoption-tags';
import type { PlacedComponent, ReleaseImage } from '../../core/ledger/release';
import { releaseImages } from '../../core/ledger/release-images';
import { isProtectionTag } from '../../core/build/protection';
import { readDigestTag } from '../../core/oci/referrers';
import { versionNamed, type Version } from '../../core/tags/version';
import type { RepositoryReader } from '../../registry/ports';
import type { Session } from '../../session/session';
import { settleAll } from '../../system/promises';
import { usualBranches, type History } from '../../workspace/git';
import type { Config, EnvironmentConfig } from '../../workspace/config';

/** What moving tags of one environment lead to, of one component; what it is of is not known yet. */
export interface ShownContent {
  readonly environment: EnvironmentConfig;
  readonly repository: TagLookup;
  readonly placed: PlacedComponent;
  /** The image for each platform. */
  readonly images: readonly PlatformImage[];
  /** Those, and their configs. */
  readonly holds: readonly ReleaseImage[];
  /** The tags that lead to it, the one that shows best what is served first. */
  readonly showing: readonly ShowingTag[];
  readonly isServed: boolean;
  /** What it says of itself, or what all its images say; several revisions where these differ. */
  readonly claims: { readonly revisions: readonly string[]; readonly version: string | undefined };
}

/** The tags of a component in an environment; what each leads to is asked for once. */
export class TagLookup {
  private readonly resolved = new Map<Tag, Promise<Digest | undefined>>();

  constructor(
    readonly client: RepositoryReader,
    readonly tags: ReadonlySet<Tag>,
    /** Those that name whole versions. */
    readonly versions: ReadonlyMap<Version, Tag>,
  ) {}

  /** What a tag leads to. */
  async resolve(tag: Tag): Promise<Digest | undefined> {
    const digest = this.resolved.get(tag) ?? this.client.manifests.resolve(tag);
    this.resolved.set(tag, digest);
    return digest;
  }
}

/** What is looked at. */
export interface AdoptionScope {
  readonly config: Config;
  readonly session: Session;
  readonly history: History;
  /** The branches that the first environment follows. */
  readonly followed: readonly string[];
  readonly environments: readonly EnvironmentConfig[];
  /** Names of components. */
  readonly components: readonly string[];
  /** The version that somebody says is served. */
  readonly version: Version | undefined;
}

/** What moving tags lead to, and where there are none. */
export interface ShownContents {
  readonly contents: readonly ShownContent[];
  /** Components of which no tag shows what an environment serves. */
  readonly absent: readonly { readonly environment: string; readonly component: string; readonly why: string }[];
  readonly left: readonly LeftTag[];
}

/** Reads what the moving tags of environments lead to. Throws where what is served is not whole. */
export async function readShown(scope: AdoptionScope): Promise<ShownContents> {
  const found = await settleAll(
    scope.environments.flatMap((environment) =>
      scope.components.map((component) => readComponent(component, environment, scope)),
    ),
  );
  return {
    contents: found.flatMap(({ contents }) => contents),
    absent: found.flatMap(({ absent }) => absent),
    left: found.flatMap(({ left }) => left),
  };
}

/** The branches that the first environment follows: those that hod.yaml names, then those that its patterns match here. */
export async function followedBranches({ folder, environments }: Config, history: History): Promise<string[]> {
  const [{ follows }] = environments;
  const patterns = follows ?? (await usualBranches(folder));
  const matching = history.branches.filter((branch) => isFollowed(branch, patterns)).sort();
  return [...new Set([...patterns.filter((each) => !/[*?[\]{}!()]/.test(each)), ...matching])];
}

async function readComponent(
  component: string,
  environment: EnvironmentConfig,
  { config: { product }, session, followed: branches, version }: AdoptionScope,
): Promise<ShownContents> {
  const client = session.client(environment.repositoryOf(component));
  const tags = new Set<Tag>();
  for await (const tag of client.tags.list()) {
    if (readDigestTag(tag) === undefined && !isProtectionTag(tag)) {
      tags.add(tag);
    }
  }
  const rules = environment.rulesOf(component);
  const reading = { product, component, tags, branches };
  const versions = versionTagsIn(rules, reading, (tag) => versionNamed(tag.replace('_', '+')));
  const repository = new TagLookup(client, tags, versions);
  const moving = showingTags(rules, reading);
  const named = version === undefined ? undefined : versions.get(version);
  const showing: readonly ShowingTag[] =
    moving.length > 0 || named === undefined ? moving : [{ tag: named, shows: 'served' }];
  const resolved = await settleAll(showing.map(async (each) => ({ each, digest: await repository.resolve(each.tag) })));
  const groups = new Map<Digest, ShowingTag[]>();
  for (const { each, digest } of resolved) {
    if (digest !== undefined) {
      groups.set(digest, [...(groups.get(digest) ?? []), each]);
    }
  }
  const name = environment.name;
  if (groups.size === 0) {
    const why =
      tags.size === 0
        ? `${client.label} has no tags`
        : `none of the ${tags.size} tags of ${client.label} is a moving tag of ${name}; --version names what it serves`;
    return { contents: [], absent: [{ environment: name, component, why }], left: [] };
  }
  const read = await settleAll(
    [...groups].map(async ([digest, own], at) =>
      readContentOf({ component, environment, repository, showing: own, isServed: at === 0 }, digest),
    ),
  );
  return { contents: read.flatMap(({ content }) => content ?? []), absent: [], left: read.flatMap(({ left }) => left) };
}

type Unread = Pick<ShownContent, 'environment' | 'repository' | 'showing' | 'isServed'>;

async function readContentOf(
  { component, ...shown }: Unread & { readonly component: string },
  digest: Digest,
): Promise<{ content?: ShownContent; left: readonly LeftTag[] }> {
  const { client } = shown.repository;
  try {
    const manifest = await client.manifests.get(digest);
    if (manifest === undefined) {
      throw contentGone(client.label, digest, shown.showing);
    }
    const node = await readContentBelow(client, manifest);
    const runnable = await runnableImages(node);
    const platforms = runnable.map(({ platform }) => formatPlatform(platform));
    const placed = { component, repository: client.label, ...describeManifest(manifest), platforms };
    const images = imagesByPlatform(manifest, platforms);
    const holds = releaseImages(component, node, platforms);
    return { content: { ...shown, placed, images, holds, claims: claimsIn(manifest, runnable) }, left: [] };
  } catch (error) {
    // What only a line or a branch leads to keeps nobody from what is served.
    if (shown.isServed || !(error instanceof HodError) || !['missing', 'corrupt'].includes(error.fault)) {
      throw error;
    }
    const why = error.message;
    return { left: shown.showing.map(({ tag }) => ({ repository: client.label, tag, why })) };
  }
}

function claimsIn({ annotations }: Manifest, runnable: readonly RunnableImage[]): ShownContent['claims'] {
  const own = annotations.get(annotationKeys.revision);
  const below = new Set(runnable.flatMap(({ revision }) => revision ?? []));
  return {
    revisions: own === undefined ? [...below] : [own],
    version: annotations.get(annotationKeys.version) ?? runnable.find(({ version }) => version !== undefined)?.version,
  };
}

function contentGone(label: string, digest: Digest, showing: readonly ShowingTag[]): HodError {
  return new HodError('content-gone', {
    what: 'the content of a tag is gone',
    object: showing.map(({ tag }) => `${label}:${tag}`),
    why: `it leads to ${digest}, which the registry does not have`,
    next: 'push the image again, or point the tag to another one',
  });
}

/** The commit that a full id stands for is known to git here; where git does not have all, it may be anyway. */
export function mayBeOurs(commit: CommitId, known: ReadonlySet<CommitId>, history: History): boolean {
  return !history.isWhole || known.has(commit);
}
