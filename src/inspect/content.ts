import { HodError } from '../core/errors';
import { readManifest } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import type { Digest } from '../core/oci/digest';
import { blobsOf, type Manifest } from '../core/oci/manifest';
import type { RepositoryClient } from '../registry/repository';
import { settleAll } from '../system/promises';

/** Content that is not there, or not what its digest says. */
export interface Lost {
  readonly digest: Digest;
  readonly object: string;
  readonly changed: boolean;
  readonly why: string;
}

/** What was found at and below a manifest. */
export interface CheckedContent {
  readonly manifests: readonly Manifest[];
  readonly blobs: readonly Descriptor[];
  readonly lost: readonly Lost[];
}

/** More than any image leads to. */
const most = 1_000;

/**
 * Looks at everything at and below a manifest in a repository, and goes on where something is lost. Each manifest is read and
 * checked.
 *
 * `deep`: reads and checks every blob, too; else only asks whether it is there.
 */
export async function checkContent(
  client: RepositoryClient,
  root: Descriptor,
  { deep }: { deep: boolean },
): Promise<CheckedContent> {
  const manifests = new Map<Digest, Manifest>();
  const lost: Lost[] = [];
  for (let level: readonly Descriptor[] = [root]; level.length > 0 && manifests.size < most;) {
    const read = await settleAll(level.map((each) => losing(client, each, lost, () => readManifest(client, each))));
    read.forEach((manifest) => manifest !== undefined && manifests.set(manifest.digest, manifest));
    const below = read.flatMap((manifest) => (manifest?.kind === 'index' ? manifest.manifests : []));
    level = [...new Map(below.map((each) => [each.digest, each])).values()].filter(
      ({ digest }) => !manifests.has(digest),
    );
  }
  const all = [...manifests.values()].flatMap(blobsOf);
  const blobs = [...new Map(all.map((blob) => [blob.digest, blob])).values()];
  await settleAll(
    blobs.map((blob) =>
      losing(client, blob, lost, async () => {
        if (deep) {
          await client.blobs.check(blob, client);
        } else if (!(await client.blobs.has(blob))) {
          lost.push(lostFrom(client, blob, false, 'the registry does not have it'));
        }
      }),
    ),
  );
  return { manifests: [...manifests.values()], blobs, lost };
}

/** Does work on content; that it is missing or corrupt is kept, and no failure. */
async function losing<T>(
  client: RepositoryClient,
  about: Descriptor,
  lost: Lost[],
  work: () => Promise<T>,
): Promise<T | undefined> {
  try {
    return await work();
  } catch (error) {
    if (error instanceof HodError && (error.fault === 'missing' || error.fault === 'corrupt')) {
      const changed = error.fault === 'corrupt';
      const why = changed ? [error.problem.why].flat().join('; ') : 'the registry does not have it';
      lost.push(lostFrom(client, about, changed, why));
      return undefined;
    }
    throw error;
  }
}

function lostFrom({ label }: RepositoryClient, { digest }: Descriptor, changed: boolean, why: string): Lost {
  return { digest, object: `${label}@${digest}`, changed, why };
}
