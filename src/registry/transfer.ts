import { contentOf, verified, type ContentNode, type ContentSource } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import type { Digest } from '../core/oci/digest';
import { blobsOf } from '../core/oci/manifest';
import type { Repository } from '../core/oci/reference';
import type { RepositoryClient } from './repository';

/** What moving one image's content took. */
export interface Transfer {
  /** Blobs sent, byte by byte. */
  blobsSent: number;
  /** Blobs that the registry took over from another of its repositories. */
  blobsMounted: number;
  /** Blobs that were there already. */
  blobsPresent: number;
  bytesSent: number;
}

/** Told of blobs as they are sent. */
export interface TransferProgress {
  /** A blob of `size` bytes begins to be sent to a repository. */
  begin(digest: Digest, repository: string, size: number): void;
  sent(digest: Digest, bytes: number): void;
  end(digest: Digest): void;
}

/** A repository that content is carried into. */
export type CarryTarget = Pick<
  RepositoryClient,
  'repository' | 'label' | 'resolve' | 'hasBlob' | 'mountBlob' | 'uploadBlob' | 'putManifest'
>;

/** Limits how many transfers run at once. */
export type Limit = <T>(work: () => Promise<T>) => Promise<T>;

/** A transfer of nothing. */
export function noTransfer(): Transfer {
  return { blobsSent: 0, blobsMounted: 0, blobsPresent: 0, bytesSent: 0 };
}

/**
 * Carries the content of images into repositories: blobs first, then the manifests above them, from
 * the bottom up, so that at no moment a manifest is there whose content is not. Tags nothing.
 *
 * One carrier serves one run: a blob that several images share goes to a registry once, and is
 * mounted from there for the others.
 */
export class Carrier {
  /** Where each blob was placed by this run, by registry and digest. */
  private readonly placed = new Map<string, Promise<Repository>>();

  /**
   * @param limit How many blobs and manifests move at once.
   * @param rehearse Read and check what would be sent, and send nothing.
   */
  constructor(
    private readonly limit: Limit,
    private readonly rehearse: boolean,
    private readonly progress: TransferProgress,
  ) {}

  /** Brings a manifest and everything below it into a repository. Adds what it took to `transfer`. */
  async carry(node: ContentNode, target: CarryTarget, transfer: Transfer): Promise<void> {
    const { manifest, source } = node;
    const digest = manifest.digest;
    // Registries take a manifest only with its content, and Hod writes it last: it vouches for the rest.
    if ((await this.limit(() => target.resolve(digest))) !== undefined) {
      transfer.blobsPresent += contentOf(node).blobs.length;
      return;
    }
    await settleAll([
      ...node.children.map((child) => this.carry(child, target, transfer)),
      ...blobsOf(manifest).map((blob) => this.carryBlob(blob, source, target, transfer)),
    ]);
    if (!this.rehearse) {
      await this.limit(() => target.putManifest(digest, manifest));
    }
  }

  private async carryBlob(
    blob: Descriptor,
    source: ContentSource,
    target: CarryTarget,
    transfer: Transfer,
  ): Promise<void> {
    const key = `${target.repository.registry} ${blob.digest}`;
    const earlier = this.placed.get(key);
    const placing = this.placeBlob(blob, source, target, transfer, earlier);
    if (earlier === undefined) {
      this.placed.set(key, placing);
      // Those who wait for it see the failure too; nobody may be waiting.
      placing.catch(() => undefined);
    }
    await placing;
  }

  private async placeBlob(
    blob: Descriptor,
    source: ContentSource,
    target: CarryTarget,
    transfer: Transfer,
    earlier: Promise<Repository> | undefined,
  ): Promise<Repository> {
    const { repository } = target;
    // Waiting happens outside the limit, so that those who wait never keep out the one they wait for.
    const from =
      (await earlier) ?? (source.repository?.registry === repository.registry ? source.repository : undefined);
    if (earlier !== undefined && from?.name === repository.name) {
      transfer.blobsPresent += 1;
      return repository;
    }
    await this.limit(async () => {
      if (await target.hasBlob(blob.digest)) {
        transfer.blobsPresent += 1;
        return;
      }
      if (this.rehearse) {
        await this.rehearseBlob(blob, source, from, transfer);
        return;
      }
      const mount = from === undefined ? undefined : await target.mountBlob(blob.digest, from);
      if (mount?.mounted === true) {
        transfer.blobsMounted += 1;
        return;
      }
      const sent = (bytes: number): void => {
        transfer.bytesSent += bytes;
        this.progress.sent(blob.digest, bytes);
      };
      this.progress.begin(blob.digest, target.label, blob.size);
      await target.uploadBlob(blob, source, { sent, begun: mount?.upload });
      this.progress.end(blob.digest);
      transfer.blobsSent += 1;
    });
    return repository;
  }

  /** Reads and checks what would be sent. */
  private async rehearseBlob(
    blob: Descriptor,
    source: ContentSource,
    from: Repository | undefined,
    transfer: Transfer,
  ): Promise<void> {
    if (from !== undefined) {
      transfer.blobsMounted += 1;
      return;
    }
    const pieces = verified(await source.openBlob(blob), blob, source.label);
    while ((await pieces.next()).done !== true);
    transfer.blobsSent += 1;
    transfer.bytesSent += blob.size;
  }
}

/** Waits for all, also after one has failed, and then throws the first failure: nothing goes on behind an error. */
async function settleAll(work: Promise<void>[]): Promise<void> {
  const failed = (await Promise.allSettled(work)).find((each) => each.status === 'rejected');
  if (failed !== undefined) {
    throw failed.reason;
  }
}
