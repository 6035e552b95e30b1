import { allBytes } from '../core/bytes';
import { HodError } from '../core/errors';
import { isProtectionTag } from '../core/build/component';
import { Facts } from '../core/ledger/facts';
import type { ReleaseId } from '../core/ledger/release';
import { readRecord, recordType, type ReleaseRecord } from '../core/ledger/release-record';
import { readContent, verified } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { describeManifest, manifestSizeLimit } from '../core/oci/manifest';
import { readDigestTag } from '../core/oci/referrers';
import type { Tag } from '../core/oci/tag';
import { unknownTo } from '../delivery/referrers/carry';
import { findReferrers, type Referrer } from '../delivery/referrers/find';
import type { FoundArrival } from './rebuild';
import type { RepositoryClient } from '../registry/repository';
import type { Session } from '../session/session';
import { settleAll } from '../system/promises';
import type { Config } from '../workspace/config';

/** What one repository says of the releases of a product. */
export interface RepositoryRemains {
  readonly environment: string;
  readonly component: string;
  readonly client: RepositoryClient;
  readonly tags: readonly { readonly tag: Tag; readonly digest: Digest }[];
  /** The releases whose record refers to a manifest here. */
  readonly records: readonly ReleaseRecord[];
  /** The referrers of the manifests that are tagged, release records among them. */
  readonly referrers: ReadonlyMap<Digest, readonly Referrer[]>;
  /** Tags that lead to something without a record. */
  readonly unknown: readonly Tag[];
  /** Tags whose content cannot be read, and why. */
  readonly damaged: readonly { readonly tag: Tag; readonly why: string }[];
  /** Parts that were staged, and not published yet. */
  readonly staged: number;
}

/** Reads what every repository of a product says of its releases. */
export function readRemains(config: Config, session: Session): Promise<RepositoryRemains[]> {
  return settleAll(
    config.environments.flatMap((environment) =>
      config.components.map(({ name }) =>
        readRepository(session.client(environment.repositoryOf(name)), {
          environment: environment.name,
          component: name,
          product: config.product,
        }),
      ),
    ),
  );
}

async function readRepository(
  client: RepositoryClient,
  { environment, component, product }: { environment: string; component: string; product: string },
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
  const damaged = new Map<Digest, string>();
  const readable = <T>(digest: Digest, read: () => Promise<readonly T[]>): Promise<readonly [Digest, readonly T[]]> =>
    readUnlessDamaged(digest, read, damaged);
  const told = new Map(
    await settleAll(digests.map((digest) => readable(digest, () => recordsOn(client, digest, { component, product })))),
  );
  const known = digests.filter((digest) => (told.get(digest)?.length ?? 0) > 0);
  const referrers = await settleAll(known.map((digest) => readable(digest, () => everythingOn(client, digest))));
  return {
    environment,
    component,
    client,
    tags,
    records: [...told.values()].flatMap((all) => all.map(({ record }) => record)),
    referrers: new Map(
      referrers.map(([digest, all]) => [digest, [...all, ...(told.get(digest) ?? []).map(({ referrer }) => referrer)]]),
    ),
    unknown: tags.filter(({ digest }) => !known.includes(digest) && !damaged.has(digest)).map(({ tag }) => tag),
    damaged: tags.flatMap(({ tag, digest }) => {
      const why = damaged.get(digest);
      return why === undefined ? [] : [{ tag, why }];
    }),
    staged,
  };
}

/** Reads something of a manifest; where it is damaged, that is noted: an old image keeps nobody from the others. */
async function readUnlessDamaged<T>(
  digest: Digest,
  read: () => Promise<readonly T[]>,
  damaged: Map<Digest, string>,
): Promise<readonly [Digest, readonly T[]]> {
  try {
    return [digest, await read()];
  } catch (error) {
    if (!(error instanceof HodError) || !['missing', 'corrupt'].includes(error.fault)) {
      throw error;
    }
    damaged.set(digest, [error.problem.why ?? error.problem.what].flat().join('; '));
    return [digest, []];
  }
}

/** The records of the product's releases that refer to a manifest; without those that are unreadable, or of another product. */
async function recordsOn(
  client: RepositoryClient,
  digest: Digest,
  { component, product }: { component: string; product: string },
): Promise<{ record: ReleaseRecord; referrer: Referrer }[]> {
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
        record?.product === product &&
        record.components.some((each) => each.component === component && each.digest === digest);
      const referrer: Referrer = {
        subject: digest,
        digest: manifest.digest,
        type: recordType,
        read: () => readContent(client, describeManifest(manifest)),
      };
      return isOurs ? [{ record, referrer }] : [];
    }),
  );
  return read.flat();
}

async function everythingOn(client: RepositoryClient, digest: Digest): Promise<readonly Referrer[]> {
  const manifest = await client.manifests.get(digest);
  return manifest === undefined ? [] : findReferrers(await readContent(client, describeManifest(manifest)));
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
  const own = here.flatMap(({ component, client, records, referrers }) => {
    const placed = records
      .find((record) => record.release === release)
      ?.components.find((each) => each.component === component);
    return placed === undefined ? [] : [{ client, placed, referrers: referrers.get(placed.digest) ?? [] }];
  });
  return {
    release,
    components: own.map(({ client: { label: repository }, placed }) => ({ ...placed, repository })),
    referrers: unknownTo(
      new Facts(),
      own.map(({ client, referrers }) => ({ target: client, referrers })),
    ),
  };
}
