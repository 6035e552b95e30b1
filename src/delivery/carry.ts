import { settleAll } from '../system/promises';
import { HodError } from '../core/errors';
import type { ContentNode, ContentSource } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import type { Digest } from '../core/oci/digest';
import { blobsOf } from '../core/oci/manifest';
import type { Repository } from '../core/oci/reference';
import type { RepositoryTarget } from '../registry/ports';
import type { TransferProgress } from '../session/observer';

/** What carrying one component's content took: the account of a transfer. */
export interface Transfer {
  /** Blobs sent, byte by byte. */
  blobsSent: number;
  /** Blobs that the registry took over from another of its repositories. */
  blobsMounted: number;
  /** Blobs that were there already. */
  blobsPresent: number;
  bytesSent: number;
}

/** A blob on its way: where it is read, where it goes, and the account that it is for. */
interface Cargo {
  readonly blob: Descriptor;
  readonly source: ContentSource;
  readonly target: RepositoryTarget;
  readonly transfer: Transfer;
}

/** A transfer of nothing. */
export function noTransfer(): Transfer {
  return { blobsSent: 0, blobsMounted: 0, blobsPresent: 0, bytesSent: 0 };
}

/** What two transfers took together. */
export function addTransfer(one: Transfer, other: Transfer): Transfer {
  return {
    blobsSent: one.blobsSent + other.blobsSent,
    blobsMounted: one.blobsMounted + other.blobsMounted,
    blobsPresent: one.blobsPresent + other.blobsPresent,
    bytesSent: one.bytesSent + other.bytesSent,
  };
}

/**
 * Carries the content of components into repositories: blobs first, then the manifests above them, from
 * the bottom up, so that at no moment a manifest is there whose content is not. Tags nothing.
 *
 * That a manifest is there proves nothing of what is below it: registries lose blobs, and remove
 * them. Each blob and each manifest is known in this run: it was asked for, read there, sent or mounted.
 *
 * One carrier serves one run: a blob that several components share goes to a registry once, and is
 * mounted from there for the others.
 */
export class Carrier {
  /** The blobs that this run brings, by repository and digest. */
  private readonly arriving = new Map<string, Promise<void>>();
  /** Where each blob that is sent goes first in this run, by registry and digest. */
  private readonly carried = new Map<string, Promise<Repository>>();
  /** The manifests that this run brought, by repository and digest. */
  private readonly brought = new Map<string, Promise<void>>();
  /** The blobs that this run sent although the registry had said that it has them, by repository and digest. */
  private readonly resent = new Map<string, Promise<void>>();
  /** Those that it wrote there. */
  private readonly wrote = new Set<string>();

  readonly dryRun: boolean;

  /** `dryRun`: reads and checks what would be sent, and sends nothing. */
  constructor(
    { dryRun }: { readonly dryRun: boolean },
    private readonly progress: TransferProgress,
  ) {
    this.dryRun = dryRun;
  }

  /** Brings a manifest and everything below it into a repository. Answers what it took. */
  async carry(node: ContentNode, target: RepositoryTarget): Promise<Transfer> {
    const transfer = noTransfer();
    await this.carryNode(node, target, transfer);
    return transfer;
  }

  /**
   * Writes a manifest where this run did not: who says what an environment serves must be able to write there, and finds
   * out before that is recorded.
   */
  async witness({ manifest }: ContentNode, target: RepositoryTarget): Promise<void> {
    const key = keyOf(target, manifest);
    if (!this.wrote.has(key)) {
      await target.manifests.put(manifest.digest, manifest);
      this.wrote.add(key);
    }
  }

  /** Brings everything below a manifest into a repository, and not itself: who writes it under its tag need not write it twice. */
  async carryBelow(node: ContentNode, target: RepositoryTarget): Promise<Transfer> {
    const transfer = noTransfer();
    await this.bringBelow(node, target, transfer);
    return transfer;
  }

  /** Does work that writes a manifest. Where the registry lacks what it said it had, it is sent, and the work done again. */
  async mending<T>(
    node: ContentNode,
    target: RepositoryTarget,
    write: () => Promise<T>,
    transfer: Transfer,
  ): Promise<T> {
    try {
      return await write();
    } catch (error) {
      if (!(error instanceof HodError) || error.code !== 'content-lacking') {
        throw error;
      }
      await this.sendAgain(node, target, transfer);
      return write();
    }
  }

  /** An index may name a manifest many times; it is brought once. */
  private carryNode(node: ContentNode, target: RepositoryTarget, transfer: Transfer): Promise<void> {
    const key = keyOf(target, node.manifest);
    const bringing = this.brought.get(key) ?? this.bringNode(node, target, transfer);
    this.brought.set(key, bringing);
    return bringing;
  }

  private async bringNode(node: ContentNode, target: RepositoryTarget, transfer: Transfer): Promise<void> {
    const { manifest, source } = node;
    await this.bringBelow(node, target, transfer);
    // What was read there is there. To write it where it may be costs no more than to ask for it.
    if (!this.dryRun && !isWithin(source.repository, target.repository)) {
      await this.mending(node, target, () => target.manifests.put(manifest.digest, manifest), transfer);
      this.wrote.add(keyOf(target, manifest));
    }
  }

  private async bringBelow(
    { manifest, source, children }: ContentNode,
    target: RepositoryTarget,
    transfer: Transfer,
  ): Promise<void> {
    await settleAll([
      ...children.map((child) => this.carryNode(child, target, transfer)),
      ...blobsOf(manifest).map((blob) => this.carryBlob({ blob, source, target, transfer })),
    ]);
  }

  /** Sends everything below a manifest, whatever the registry says of it. */
  private async sendAgain(
    { manifest, children, source }: ContentNode,
    target: RepositoryTarget,
    transfer: Transfer,
  ): Promise<void> {
    await settleAll([
      ...children.map(async (child) => {
        await this.sendAgain(child, target, transfer);
        await target.manifests.put(child.manifest.digest, child.manifest);
      }),
      ...blobsOf(manifest).map((blob) => this.resend({ blob, source, target, transfer })),
    ]);
  }

  /** A manifest may name a blob that another one of its repository names too; it is brought once. */
  private async carryBlob(cargo: Cargo): Promise<void> {
    const { blob, target, transfer } = cargo;
    const key = keyOf(target, blob);
    const arriving = this.arriving.get(key);
    if (arriving !== undefined) {
      await arriving;
      transfer.blobsPresent += 1;
      return;
    }
    const carrying = this.bringBlob(cargo);
    this.arriving.set(key, carrying);
    await carrying;
  }

  /** A blob that another component of this run carries is waited for, and mounted from there, unless its source can be mounted. */
  private async bringBlob(cargo: Cargo): Promise<void> {
    const { blob, source, target } = cargo;
    if (source.repository !== undefined && isMountable(source.repository, target.repository)) {
      return this.bringFrom(cargo, source.repository);
    }
    const key = `${target.repository.registry} ${blob.digest}`;
    const earlier = this.carried.get(key);
    const carrying = this.bringAfter(cargo, earlier).then(() => target.repository);
    if (earlier === undefined) {
      this.carried.set(key, carrying);
      // Those who wait for it see the failure too; nobody may be waiting.
      carrying.catch(() => undefined);
    }
    await carrying;
  }

  private async bringAfter(cargo: Cargo, earlier: Promise<Repository> | undefined): Promise<void> {
    const carried = await earlier;
    return this.bringFrom(cargo, carried && isMountable(carried, cargo.target.repository) ? carried : undefined);
  }

  private async bringFrom(cargo: Cargo, from: Repository | undefined): Promise<void> {
    const { blob, source, target, transfer } = cargo;
    // Where it can be mounted nobody asks first: that it was mounted says that it is there.
    const asks = this.dryRun || from === undefined || isWithin(source.repository, target.repository);
    if (asks && (await target.blobs.has(blob))) {
      transfer.blobsPresent += 1;
    } else if (this.dryRun) {
      await this.rehearse(cargo, from);
    } else {
      await this.mountOrSend(cargo, from);
    }
  }

  /** Says what would be done about a blob that is not there. */
  private async rehearse({ blob, source, target, transfer }: Cargo, from: Repository | undefined): Promise<void> {
    if (from !== undefined) {
      transfer.blobsMounted += 1;
      return;
    }
    await target.blobs.check(blob, source);
    transfer.blobsSent += 1;
    transfer.bytesSent += blob.size;
  }

  private async mountOrSend(cargo: Cargo, from: Repository | undefined): Promise<void> {
    const { blob, target, transfer } = cargo;
    const mount = from === undefined ? undefined : await target.blobs.mount(blob.digest, from);
    if (mount?.mounted === true) {
      transfer.blobsMounted += 1;
    } else if (mount !== undefined && (await target.blobs.has(blob))) {
      transfer.blobsPresent += 1;
    } else {
      await this.send(cargo, mount?.upload);
    }
  }

  /** What several manifests lack is sent once, and all wait for it. */
  private resend(cargo: Cargo): Promise<void> {
    const key = keyOf(cargo.target, cargo.blob);
    const sending = this.resent.get(key) ?? this.send(cargo, undefined);
    this.resent.set(key, sending);
    return sending;
  }

  private async send({ blob, source, target, transfer }: Cargo, begun: string | undefined): Promise<void> {
    await target.blobs.upload(blob, source, {
      begin: () => this.progress.begin(blob.digest, target.label, blob.size),
      sent: (bytes) => {
        transfer.bytesSent += bytes;
        this.progress.sent(blob.digest, bytes);
      },
      begun,
    });
    this.progress.end(blob.digest);
    transfer.blobsSent += 1;
  }
}

/** Names content in a repository. */
function keyOf({ label }: Pick<RepositoryTarget, 'label'>, { digest }: { readonly digest: Digest }): string {
  return `${label}@${digest}`;
}

/** Whether both are one repository. */
function isWithin(one: Repository | undefined, other: Repository): boolean {
  return one?.registry === other.registry && one.name === other.name;
}

/** Whether the registry could take a blob over from one repository into the other. */
function isMountable(from: Repository, to: Repository): boolean {
  return from.registry === to.registry && from.name !== to.name;
}
