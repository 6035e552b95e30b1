import { readDigestTag, referrersTag, typeOf, type ListedReferrer } from '../core/oci/referrers';
import { HodError } from '../core/errors';
import type { Descriptor } from '../core/oci/descriptor';
import type { Digest } from '../core/oci/digest';
import { describeManifest, parseManifest, type Manifest } from '../core/oci/manifest';
import { mediaTypes } from '../core/oci/media-types';
import type { Tag } from '../core/oci/tag';
import type { Manifests } from './manifests';
import { isPage } from '../http/status-problems';
import { pagesOf } from './pages';
import type { RepositoryRequests } from './requests';
import type { Tags } from './tags';

/** How registries, and what stands in front of them, say that there is no such list. */
const without = [400, 403, 404, 405, 406, 501];

/**
 * Anyone who can push to the repository can add a referrer; the list is held in memory.
 * @limit referrers that a registry lists for one manifest | referrers | `listing-endless`
 */
const most = 10_000;

/** The referrers of the manifests of one repository. */
export class Referrers {
  /** The tags that are made of a digest, by the digest as they write it. Read once. */
  private tagged: Promise<ReadonlyMap<string, readonly Tag[]>> | undefined;
  /** Whether the registry said of a manifest with a subject that it lists it; undefined where it was sent none yet. */
  private listed: boolean | undefined;
  /** The first question to the registry: its answer says whether others are worth asking. */
  private first: Promise<{ readonly digest: Digest; readonly found: readonly Descriptor[] | undefined }> | undefined;

  constructor(
    private readonly requests: RepositoryRequests,
    private readonly manifests: Pick<Manifests, 'get'>,
    private readonly tags: Pick<Tags, 'madeOfDigests'>,
  ) {}

  /**
   * What refers to a manifest: by the list of the registry (OCI distribution specification, "Listing Referrers"), and by the
   * tag that stands for one ("Referrers Tag Schema"), which may be from before the registry had a list.
   *
   * Throws `listing-endless`.
   */
  async list(digest: Digest): Promise<readonly Descriptor[]> {
    const own = await this.ownList(digest);
    const tag = referrersTag(digest);
    const isTagged = (await this.tagsFor(digest)).includes(tag);
    const list = isTagged ? await this.manifests.get(tag) : undefined;
    const all = [...(own ?? []), ...(list?.kind === 'index' ? list.manifests : [])];
    return [...new Map(all.map((each) => [each.digest, each])).values()];
  }

  /** What refers to a manifest, and what stands beside it under a tag that is made of its digest. */
  async referrersOf(digest: Digest): Promise<readonly ListedReferrer[]> {
    const [referring, tags] = await Promise.all([this.list(digest), this.tagsFor(digest)]);
    const beside = tags
      .filter((tag) => tag !== referrersTag(digest))
      .map(async (tag) => {
        const manifest = await this.manifests.get(tag);
        return manifest === undefined
          ? []
          : [{ descriptor: { ...describeManifest(manifest), artifactType: typeOf(manifest) }, tag }];
      });
    return [...referring.map((descriptor) => ({ descriptor })), ...(await Promise.all(beside)).flat()];
  }

  /** Whether the registry lists by itself what it was sent; where it does not, somebody has to write the list under its tag. */
  async listsByItself(digest: Digest): Promise<boolean> {
    return this.listed ?? (await this.ownList(digest)) !== undefined;
  }

  /** Told what a registry answered to a manifest with a subject: who lists it says so (OCI distribution specification, "Pushing Manifests with Subject"). */
  taken(listed: boolean): void {
    this.listed = listed;
  }

  /** The list of the registry; undefined where it has none. */
  private async ownList(digest: Digest): Promise<readonly Descriptor[] | undefined> {
    this.first ??= this.askForList(digest).then((found) => ({ digest, found }));
    const first = await this.first;
    if (first.digest === digest) {
      return first.found;
    }
    // A repository that was not there when it was asked for the first time is by now.
    return first.found !== undefined || this.listed === true ? this.askForList(digest) : undefined;
  }

  private async askForList(digest: Digest): Promise<Descriptor[] | undefined> {
    const about = { purpose: 'could not list what refers to a manifest', object: `${this.requests.label}@${digest}` };
    const found: Descriptor[] = [];
    const ask = (path: string) =>
      this.requests.fetch({
        method: 'GET',
        path,
        headers: { accept: mediaTypes.index },
        access: 'read',
        expect: [200, ...without],
        purpose: about.purpose,
        part: `@${digest}`,
      });
    for await (const response of pagesOf(`referrers/${digest}`, ask, about)) {
      if (response.statusCode !== 200 || isPage(response)) {
        return undefined;
      }
      found.push(...listIn(parseManifest(response.body, { label: about.object, mediaType: mediaTypes.index })));
      if (found.length > most) {
        throw new HodError('listing-endless', {
          what: about.purpose,
          object: about.object,
          why: `more than ${most} refer to it`,
          next: 'remove those that nobody needs from the registry',
        });
      }
    }
    return found;
  }

  private async tagsFor(digest: Digest): Promise<readonly Tag[]> {
    this.tagged ??= this.readTags();
    return (await this.tagged).get(referrersTag(digest)) ?? [];
  }

  private async readTags(): Promise<ReadonlyMap<string, readonly Tag[]>> {
    const found = new Map<string, Tag[]>();
    for await (const tag of this.tags.madeOfDigests()) {
      const stem = readDigestTag(tag)?.stem ?? tag;
      found.set(stem, [...(found.get(stem) ?? []), tag]);
    }
    return found;
  }
}

function listIn(manifest: Manifest): readonly Descriptor[] {
  return manifest.kind === 'index' ? manifest.manifests : [];
}
