import { isProtectionTag } from '../core/build/protection';
import { HodError } from '../core/errors';
import type { Digest } from '../core/oci/digest';
import { annotationKeys } from '../core/oci/annotations';
import { readContentBelow, runnableImages } from '../core/oci/content';
import { blobsOf, type Manifest } from '../core/oci/manifest';
import { referrersTag } from '../core/oci/referrers';
import type { Tag } from '../core/oci/tag';
import { contentIn, type RepositoryPlan } from '../core/tidy/content-plan';
import { isOlder } from '../core/tidy/stated-age';
import {
  mayGo,
  tagsToFollow,
  type HeldManifest,
  type HeldReferrer,
  type LedTag,
  type RepositorySurvey,
} from '../core/tidy/removal';
import type { Timestamp } from '../core/time';
import type { RepositoryToTidy } from '../registry/ports';
import { settleAll } from '../system/promises';

/** Deeper nesting than any builder writes, and more manifests than a repository has that is tidied now and then. */
const [depthLimit, mostManifests] = [8, 200_000];

/** Looks through one repository, as often as it is asked to. Manifests are read once; what tags lead to, each time. */
export class RepositorySurveyor {
  private readonly reader: ManifestReader;
  private readonly referrers = new Map<Digest, readonly HeldReferrer[]>();
  /** Whether what only unknown tags lead to is old enough to go, by what it says of itself. */
  private readonly aged = new Map<Digest, Promise<boolean>>();

  /** @param unknownBefore What the ledger does not know may go where it says that it was made before; none of it where undefined. */
  constructor(
    private readonly client: RepositoryToTidy,
    private readonly unknownBefore: Timestamp | undefined,
  ) {
    this.reader = new ManifestReader(client);
  }

  /**
   * Reads what the repository has, as far as it matters for what may go: its tags, every manifest that the ledgers say is there, what
   * other tags lead to, and what refers to what may go. What the registry has lost is left out.
   *
   * @param known Every tag that the ledger, or that of another product, ever set there.
   */
  async look(plan: RepositoryPlan, known: ReadonlySet<Tag>): Promise<RepositorySurvey> {
    const { client, reader, referrers } = this;
    const tags = new Set<Tag>();
    for await (const tag of client.tags.list()) {
      tags.add(tag);
    }
    const own = contentIn(plan).map(({ digest }) => digest);
    await settleAll([...own, ...plan.others.keys()].map((digest) => reader.read(digest)));
    const led = await this.follow(tagsToFollow(plan, tags, reader.manifests.keys()), known);
    // A tag that is made of the digest of what another tag leads to belongs to that.
    const others = new Set(tagsToFollow(plan, new Set(led.map(({ tag }) => tag)), reader.manifests.keys()));
    const leading = led.filter(({ tag }) => others.has(tag));
    const old = await this.oldOf(leading);
    const going = mayGo(plan, old).map(({ digest }) => digest);
    await readReferrers(going, { client, reader, tags, found: referrers });
    return { tags, manifests: reader.manifests, led: leading, old, referrers };
  }

  private async follow(tags: readonly Tag[], known: ReadonlySet<Tag>): Promise<LedTag[]> {
    const led = await settleAll(
      tags.map(async (tag): Promise<LedTag[]> => {
        const manifest = await this.reader.follow(tag);
        const unknown = !known.has(tag) && !isProtectionTag(tag);
        return manifest === undefined ? [] : [{ tag, digest: manifest.digest, unknown }];
      }),
    );
    return led.flat();
  }

  /** Finds what only unknown tags lead to, and is as old as was asked for. */
  private async oldOf(led: readonly LedTag[]): Promise<Map<Digest, Tag[]>> {
    const { client, unknownBefore: before } = this;
    const old = new Map<Digest, Tag[]>();
    if (before === undefined) {
      return old;
    }
    const digests = [...new Set(led.map(({ digest }) => digest))];
    await settleAll(
      digests.map(async (digest) => {
        const tags = led.filter((each) => each.digest === digest);
        if (tags.every(({ unknown }) => unknown)) {
          const aging = this.aged.get(digest) ?? readDates(client, digest).then((dates) => isOlder(dates, before));
          this.aged.set(digest, aging);
          if (await aging) {
            old.set(
              digest,
              tags.map(({ tag }) => tag),
            );
          }
        }
      }),
    );
    return old;
  }
}

/** Reads when content says that it was made: a date of each image in it, undefined for one that says none. */
async function readDates(client: RepositoryToTidy, digest: Digest): Promise<(string | undefined)[]> {
  try {
    const manifest = await client.manifests.get(digest);
    if (manifest === undefined) {
      return [];
    }
    const images = await runnableImages(await readContentBelow(client, manifest));
    const own = manifest.annotations.get(annotationKeys.created);
    return [...(own === undefined ? [] : [own]), ...images.map(({ created }) => created)];
  } catch (error) {
    // What cannot be read says nothing of its age.
    if (error instanceof HodError && ['corrupt', 'missing', 'refused'].includes(error.fault)) {
      return [];
    }
    throw error;
  }
}

/** Reads manifests of a repository, and all that are below them, each once. */
class ManifestReader {
  readonly manifests = new Map<Digest, HeldManifest>();
  private readonly reading = new Map<Digest | Tag, Promise<HeldManifest | undefined>>();
  /** The tags that were followed before: mostly they lead where they led. */
  private readonly led = new Set<Tag>();

  constructor(private readonly client: RepositoryToTidy) {}

  read(reference: Digest | Tag, depth = 0): Promise<HeldManifest | undefined> {
    const known = this.reading.get(reference) ?? this.readUnlessGone(reference, depth);
    this.reading.set(reference, known);
    return known;
  }

  /** What is not there now may be there when somebody looks again. */
  private async readUnlessGone(reference: Digest | Tag, depth: number): Promise<HeldManifest | undefined> {
    const held = await this.readOnce(reference, depth);
    if (held === undefined) {
      this.reading.delete(reference);
    }
    return held;
  }

  /** Reads what a tag leads to now; undefined where it is gone. */
  async follow(tag: Tag): Promise<HeldManifest | undefined> {
    const isAgain = this.led.has(tag);
    const digest = isAgain ? await this.client.manifests.resolve(tag) : undefined;
    const held = isAgain ? digest && (await this.read(digest)) : await this.readOnce(tag, 0);
    this.led.add(tag);
    return held;
  }

  private async readOnce(reference: Digest | Tag, depth: number): Promise<HeldManifest | undefined> {
    const manifest = await this.client.manifests.get(reference);
    if (manifest === undefined) {
      return undefined;
    }
    const held = heldOf(manifest);
    this.manifests.set(held.digest, held);
    this.reading.set(held.digest, Promise.resolve(held));
    if (this.manifests.size > mostManifests) {
      throw new HodError('too-many-manifests', {
        what: 'a repository has too many manifests to tidy it',
        object: this.client.label,
        why: `more than ${mostManifests} are below its tags`,
        next: 'remove what nobody needs with the means of the registry first',
      });
    }
    if (depth < depthLimit) {
      await settleAll(held.below.map((digest) => this.read(digest, depth + 1)));
    }
    return held;
  }
}

function heldOf(manifest: Manifest): HeldManifest {
  return {
    digest: manifest.digest,
    subject: manifest.subject?.digest,
    size: manifest.bytes.length,
    below: manifest.kind === 'index' ? manifest.manifests.map(({ digest }) => digest) : [],
    blobs: manifest.kind === 'index' ? [] : blobsOf(manifest).map(({ digest, size }) => ({ digest, size })),
  };
}

/** Reads what refers to what may go, and what refers to that, and so on. */
async function readReferrers(
  going: readonly Digest[],
  {
    client,
    reader,
    tags,
    found,
  }: {
    readonly client: RepositoryToTidy;
    readonly reader: ManifestReader;
    readonly tags: ReadonlySet<Tag>;
    /** What was found before, and is added to. */
    readonly found: Map<Digest, readonly HeldReferrer[]>;
  },
): Promise<void> {
  for (let level = going.flatMap((digest) => below(digest, reader)); level.length > 0;) {
    const fresh = [...new Set(level)].filter((digest) => !found.has(digest));
    const listed = await settleAll(
      fresh.map(async (digest) => {
        const all = await client.referrers.referrersOf(digest);
        const referring = await settleAll(
          all.map(async ({ descriptor, tag }) => {
            // A list may say anything: what names its subject itself, refers to it.
            const held = await reader.read(descriptor.digest);
            const refers = held !== undefined && (tag !== undefined || held.subject === digest);
            return refers ? [{ digest: held.digest, tag }] : [];
          }),
        );
        const list = referrersTag(digest);
        const listing = tags.has(list) ? await reader.read(list) : undefined;
        return [
          digest,
          [...(listing === undefined ? [] : [{ digest: listing.digest, tag: list }]), ...referring.flat()],
        ] as const;
      }),
    );
    listed.forEach(([digest, all]) => found.set(digest, all));
    const referring = listed.flatMap(([, all]) => all.map(({ digest }) => digest));
    level = referring.flatMap((digest) => below(digest, reader));
  }
}

/** A manifest that was read, and all below it. */
function below(root: Digest, { manifests }: ManifestReader): Digest[] {
  const seen = new Set<Digest>();
  const visit = (digest: Digest): void => {
    const manifest = manifests.get(digest);
    if (manifest !== undefined && !seen.has(digest)) {
      seen.add(digest);
      manifest.below.forEach(visit);
    }
  };
  visit(root);
  return [...seen];
}
