import { isProtectionTag } from '../core/build/protection';
import { HodError } from '../core/errors';
import type { Digest } from '../core/oci/digest';
import { blobsOf, type Manifest } from '../core/oci/manifest';
import { referrersTag } from '../core/oci/referrers';
import type { Tag } from '../core/oci/tag';
import type { RepositoryPlan } from '../core/tidy/content-plan';
import {
  tagsToFollow,
  type HeldManifest,
  type HeldReferrer,
  type LedTag,
  type RepositorySurvey,
} from '../core/tidy/removal';
import type { RepositoryToTidy } from '../registry/ports';
import { settleAll } from '../system/promises';

/** Deeper nesting than any builder writes, and more manifests than a repository has that is tidied now and then. */
const [depthLimit, mostManifests] = [8, 200_000];

/** Looks through one repository, as often as it is asked to. Manifests are read once; what tags lead to, each time. */
export class RepositorySurveyor {
  private readonly reader: ManifestReader;
  private readonly referrers = new Map<Digest, readonly HeldReferrer[]>();

  /** @param known Every tag that the ledger ever set there. */
  constructor(
    private readonly client: RepositoryToTidy,
    private readonly known: ReadonlySet<Tag>,
  ) {
    this.reader = new ManifestReader(client);
  }

  /**
   * Reads what the repository has, as far as it matters for what may go: its tags, every manifest that the ledger says is there, what
   * other tags lead to, and what refers to what may go. What the registry has lost is left out.
   */
  async look(plan: RepositoryPlan): Promise<RepositorySurvey> {
    const { client, reader, known, referrers } = this;
    const tags = new Set<Tag>();
    for await (const tag of client.tags.list()) {
      tags.add(tag);
    }
    const roots = [...plan.goes, ...plan.stays.map(({ placed }) => placed)].map(({ digest }) => digest);
    await settleAll(roots.map((digest) => reader.read(digest)));
    const following = tagsToFollow(plan, tags, reader.manifests.keys());
    const led = await settleAll(
      following.map(async (tag): Promise<LedTag[]> => {
        const manifest = await reader.follow(tag);
        const unknown = !known.has(tag) && !isProtectionTag(tag);
        return manifest === undefined ? [] : [{ tag, digest: manifest.digest, unknown }];
      }),
    );
    await readReferrers(plan, { client, reader, tags, found: referrers });
    return { tags, manifests: reader.manifests, led: led.flat(), referrers };
  }
}

/** Reads manifests of a repository, and all that are below them, each once. */
class ManifestReader {
  readonly manifests = new Map<Digest, HeldManifest>();
  private readonly reading = new Map<Digest | Tag, Promise<HeldManifest | undefined>>();

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
  follow(tag: Tag): Promise<HeldManifest | undefined> {
    return this.readOnce(tag, 0);
  }

  private async readOnce(reference: Digest | Tag, depth: number): Promise<HeldManifest | undefined> {
    const manifest = await this.client.manifests.get(reference);
    if (manifest === undefined) {
      return undefined;
    }
    const held = heldOf(manifest);
    this.manifests.set(held.digest, held);
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
  { goes }: RepositoryPlan,
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
  for (let level = goes.flatMap(({ digest }) => below(digest, reader)); level.length > 0;) {
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
