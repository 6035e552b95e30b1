import { allBytes } from '../core/bytes';
import { isProtectionTag } from '../core/build/component';
import { Facts } from '../core/ledger/facts';
import type { ReleaseId } from '../core/ledger/release';
import { readRecord, recordType, type ReleaseRecord } from '../core/ledger/release-record';
import { readContent, verified } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { describeManifest, manifestSizeLimit } from '../core/oci/manifest';
import { readDigestTag } from '../core/oci/referrers';
import type { Tag } from '../core/oci/tag';
import { unknownTo } from '../delivery/attach';
import { attachmentsOf, type Attachment } from '../delivery/attachments';
import type { FoundArrival } from '../delivery/rebuild';
import type { RepositoryClient } from '../registry/repository';
import type { Session } from '../session/session';
import { settleAll } from '../system/promises';
import type { Config } from '../workspace/config';

/** What one repository tells. */
export interface RepositoryRemains {
  readonly environment: string;
  readonly image: string;
  readonly client: RepositoryClient;
  readonly tags: readonly { readonly tag: Tag; readonly digest: Digest }[];
  /** The releases whose record refers to an image here. */
  readonly records: readonly ReleaseRecord[];
  /** What belongs to the images that are tagged, record or not. */
  readonly attachments: ReadonlyMap<Digest, readonly Attachment[]>;
  /** Tags that lead to something without a record. */
  readonly unknown: readonly Tag[];
  /** Parts that were staged, and not published yet. */
  readonly staged: number;
}

/** Reads what every repository of a product tells of its releases. */
export function readRemains(config: Config, session: Session): Promise<RepositoryRemains[]> {
  return settleAll(
    config.environments.flatMap((environment) =>
      config.components.map(({ name }) =>
        readRepository(session.client(environment.repositoryOf(name)), {
          environment: environment.name,
          image: name,
          product: config.product,
        }),
      ),
    ),
  );
}

async function readRepository(
  client: RepositoryClient,
  { environment, image, product }: { environment: string; image: string; product: string },
): Promise<RepositoryRemains> {
  const names: Tag[] = [];
  let staged = 0;
  for await (const tag of client.tags.list()) {
    staged += isProtectionTag(tag) ? 1 : 0;
    if (readDigestTag(tag) === undefined && !isProtectionTag(tag)) {
      names.push(tag);
    }
  }
  const resolved = await settleAll(names.map(async (tag) => ({ tag, digest: await client.manifests.resolve(tag) })));
  const tags = resolved.flatMap(({ tag, digest }) => (digest === undefined ? [] : [{ tag, digest }]));
  const digests = [...new Set(tags.map(({ digest }) => digest))];
  const told = new Map(
    await settleAll(
      digests.map(async (digest) => [digest, await recordsOn(client, digest, { image, product })] as const),
    ),
  );
  const known = digests.filter((digest) => (told.get(digest)?.length ?? 0) > 0);
  const attachments = await settleAll(
    known.map(async (digest) => [digest, await everythingOn(client, digest)] as const),
  );
  return {
    environment,
    image,
    client,
    tags,
    records: [...told.values()].flatMap((all) => all.map(({ record }) => record)),
    attachments: new Map(
      attachments.map(([digest, all]) => [
        digest,
        [...all, ...(told.get(digest) ?? []).map(({ attachment }) => attachment)],
      ]),
    ),
    unknown: tags.filter(({ digest }) => !known.includes(digest)).map(({ tag }) => tag),
    staged,
  };
}

/** The records of the product's releases that refer to an image. One that cannot be read, or is of another product, is none. */
async function recordsOn(
  client: RepositoryClient,
  digest: Digest,
  { image, product }: { image: string; product: string },
): Promise<{ record: ReleaseRecord; attachment: Attachment }[]> {
  const listed = (await client.referrers.list(digest)).filter(({ artifactType }) => artifactType === recordType);
  const read = await settleAll(
    listed.map(async (descriptor) => {
      const { manifest } = await readContent(client, descriptor);
      const [blob] = manifest.kind === 'image' ? manifest.layers : [];
      if (blob === undefined || blob.size > manifestSizeLimit) {
        return [];
      }
      const bytes = await allBytes(verified(await client.openBlob(blob), blob, client.label));
      const record = readRecord(bytes);
      const isOurs =
        record?.product === product && record.images.some((each) => each.image === image && each.digest === digest);
      const attachment: Attachment = {
        subject: digest,
        digest: manifest.digest,
        type: recordType,
        read: () => readContent(client, describeManifest(manifest)),
      };
      return isOurs ? [{ record, attachment }] : [];
    }),
  );
  return read.flat();
}

async function everythingOn(client: RepositoryClient, digest: Digest): Promise<readonly Attachment[]> {
  const manifest = await client.manifests.get(digest);
  return manifest === undefined ? [] : attachmentsOf(await readContent(client, describeManifest(manifest)));
}

/** Finds which releases came into each environment, by the records that stand there. */
export function arrivalsIn({ environments }: Config, found: readonly RepositoryRemains[]): Map<string, FoundArrival[]> {
  return new Map(
    environments.map(({ name }) => {
      const here = found.filter(({ environment }) => environment === name);
      const ids = new Set(here.flatMap(({ records }) => records.map(({ release }) => release)));
      return [name, [...ids].map((id) => arrivalOf(id, here))];
    }),
  );
}

function arrivalOf(release: ReleaseId, here: readonly RepositoryRemains[]): FoundArrival {
  const own = here.flatMap(({ image, client, records, attachments }) => {
    const placed = records.find((record) => record.release === release)?.images.find((each) => each.image === image);
    return placed === undefined ? [] : [{ client, placed, attachments: attachments.get(placed.digest) ?? [] }];
  });
  return {
    release,
    images: own.map(({ client: { label: repository }, placed }) => ({ ...placed, repository })),
    attached: unknownTo(
      new Facts(),
      own.map(({ client, attachments }) => ({ target: client, attachments })),
    ),
  };
}
