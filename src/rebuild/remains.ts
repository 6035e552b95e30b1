import { HodError } from '../core/errors';
import { isProtectionTag } from '../core/build/protection';
import { Facts } from '../core/ledger/facts';
import { isName } from '../core/names';
import type { ReleaseId } from '../core/ledger/release';
import {
  isRecordType,
  readRecord,
  verifyRecord,
  type ReadRecord,
  type ReleaseRecord,
} from '../core/ledger/release-record';
import { readRollbackRecord, rollbackType, type RollbackRecord } from '../core/ledger/rollback-record';
import { imagesByPlatform, readContent } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import type { Digest } from '../core/oci/digest';
import { describeManifest, type Manifest } from '../core/oci/manifest';
import { readDigestTag } from '../core/oci/referrers';
import type { Tag } from '../core/oci/tag';
import { readOwnRecords, recordReferrer } from '../delivery/referrers/own-records';
import { unknownTo } from '../delivery/referrers/carry';
import { findReferrers, type Referrer } from '../delivery/referrers/find';
import type { FoundArrival } from './found';
import type { RepositoryClient } from '../registry/repository';
import type { Session } from '../session/session';
import { settleAll } from '../system/promises';
import { timestampOf, type Timestamp } from '../core/time';
import type { TrustedSigners } from '../core/trust/signer';
import type { Config } from '../workspace/config';

/** What one repository says of the releases of a product. */
export interface RepositoryRemains {
  readonly environment: string;
  readonly component: string;
  readonly client: RepositoryClient;
  readonly tags: readonly { readonly tag: Tag; readonly digest: Digest }[];
  /** The releases whose record refers to a manifest here, and is believed. */
  readonly records: readonly ReadRecord[];
  /** Records that nobody signed who is trusted, and why they do not count; they are not believed where hod.yaml signs. */
  readonly unbelieved: readonly { readonly record: ReleaseRecord; readonly why: string }[];
  /** Records that are believed, though their key has expired since: that it signed in its time, they say themselves. */
  readonly expired: readonly { readonly record: ReleaseRecord; readonly why: string }[];
  /** The rollbacks of the environment whose record refers to a manifest here. */
  readonly rollbacks: readonly RollbackRecord[];
  /** The manifests that are tagged and of a release. */
  readonly manifests: ReadonlyMap<Digest, Manifest>;
  /** The referrers of the manifests that are tagged, release records among them. */
  readonly referrers: ReadonlyMap<Digest, readonly Referrer[]>;
  /** Tags that lead to something without a record. */
  readonly unknown: readonly Tag[];
  /** Tags whose content cannot be read, and why. */
  readonly damaged: readonly { readonly tag: Tag; readonly why: string }[];
  /** Parts that were staged, and not published yet. */
  readonly staged: number;
}

/** So many components are looked for that the product has no more: records may be forged. */
const formerComponents = 100;

/** What a repository lists as referring to a manifest. */
interface ListedOn {
  readonly digest: Digest;
  readonly listed: readonly Descriptor[];
}

/**
 * Reads what every repository of a product says of its releases; of components that it has no more, too.
 *
 * @param trust Only release records count that they signed; all where undefined.
 */
export async function readRemains(
  config: Config,
  session: Session,
  trust: TrustedSigners | undefined,
): Promise<RepositoryRemains[]> {
  const read = (names: readonly string[]): Promise<RepositoryRemains[]> =>
    settleAll(
      config.environments.flatMap((environment) =>
        names.map((component) =>
          readRepository(session.client(environment.repositoryOf(component)), {
            environment: environment.name,
            component,
            product: config.product,
            trust,
          }),
        ),
      ),
    );
  const current = config.components.map(({ name }) => name);
  const found = await read(current);
  const named = found.flatMap(({ records }) => records.flatMap(({ record }) => record.components));
  const former = new Set(
    named.map(({ component }) => component).filter((name) => isName(name) && !current.includes(name)),
  );
  return [...found, ...(await read([...former].slice(0, formerComponents)))];
}

async function readRepository(
  client: RepositoryClient,
  { environment, ...about }: AboutRecords & { readonly environment: string },
): Promise<RepositoryRemains> {
  const { component, product } = about;
  const { tags, staged } = await tagsOf(client);
  const digests = [...new Set(tags.map(({ digest }) => digest))];
  const damaged = new Map<Digest, string>();
  const readable = <T>(digest: Digest, read: () => Promise<readonly T[]>): Promise<readonly [Digest, readonly T[]]> =>
    readUnlessDamaged(digest, read, damaged);
  const lists = (await settleAll(digests.map((digest) => readable(digest, () => client.referrers.list(digest))))).map(
    ([digest, listed]): ListedOn => ({ digest, listed }),
  );
  const told = new Map(
    await settleAll(lists.map((each) => readable(each.digest, () => recordsOn(client, each, about)))),
  );
  const rollbacks = await settleAll(lists.map((each) => readable(each.digest, () => rollbacksOn(client, each))));
  const known = digests.filter((digest) => told.get(digest)?.some(({ why }) => why === undefined) === true);
  const contents = await settleAll(known.map((digest) => readable(digest, () => everythingOn(client, digest))));
  const referrers = contents.map(([digest, all]): [Digest, Referrer[]] => [
    digest,
    [
      ...all.flatMap((each) => each.referrers),
      ...(told.get(digest) ?? []).flatMap(({ why, referrer }) => (why === undefined ? [referrer] : [])),
    ],
  ]);
  const records = [...told.values()].flat();
  return {
    environment,
    component,
    client,
    tags,
    records: records.flatMap(({ why, read }) => (why === undefined ? [read] : [])),
    unbelieved: records.flatMap(({ why, read: { record } }) => (why === undefined ? [] : [{ record, why }])),
    expired: records.flatMap(({ why, whyNow, read: { record } }) =>
      why !== undefined || whyNow === undefined ? [] : [{ record, why: whyNow }],
    ),
    rollbacks: rollbacks
      .flatMap(([, all]) => all)
      .filter((each) => each.product === product && each.environment === environment),
    referrers: new Map(referrers),
    manifests: new Map(contents.flatMap(([digest, all]) => all.map(({ manifest }) => [digest, manifest] as const))),
    unknown: tags.filter(({ digest }) => !known.includes(digest) && !damaged.has(digest)).map(({ tag }) => tag),
    damaged: tags.flatMap(({ tag, digest }) => damagedTag(tag, damaged.get(digest))),
    staged,
  };
}

/** The tags of images with what they lead to, and how many tags protect what is staged. */
async function tagsOf(client: RepositoryClient): Promise<Pick<RepositoryRemains, 'tags' | 'staged'>> {
  const names: Tag[] = [];
  let staged = 0;
  for await (const tag of client.tags.list()) {
    staged += isProtectionTag(tag) ? 1 : 0;
    if (readDigestTag(tag) === undefined && !isProtectionTag(tag)) {
      names.push(tag);
    }
  }
  const resolved = await settleAll(names.map(async (tag) => ({ tag, digest: await client.manifests.resolve(tag) })));
  return { tags: resolved.flatMap(({ tag, digest }) => (digest === undefined ? [] : [{ tag, digest }])), staged };
}

function damagedTag(tag: Tag, why: string | undefined): RepositoryRemains['damaged'] {
  return why === undefined ? [] : [{ tag, why }];
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

/** Which release records are looked for, and whose signatures count under them; all records where undefined. */
interface AboutRecords {
  readonly component: string;
  readonly product: string;
  readonly trust: TrustedSigners | undefined;
}

/** A record that refers to a manifest. `why`: it is not believed; `whyNow`: it would not be, were it signed now. */
interface RecordOn {
  readonly read: ReadRecord;
  readonly referrer: Referrer;
  readonly why: string | undefined;
  readonly whyNow: string | undefined;
}

/** The records of the product's releases that refer to a manifest; without those that are unreadable, or of another product. */
async function recordsOn(
  client: RepositoryClient,
  { digest, listed }: ListedOn,
  { component, product, trust }: AboutRecords,
): Promise<RecordOn[]> {
  const found = await readOwnRecords(client, listed, isRecordType);
  const now = timestampOf(new Date());
  return found.flatMap(({ node, bytes }) => {
    const read = readRecord(bytes);
    const isOurs =
      read?.record.product === product &&
      read.record.components.some((each) => each.component === component && each.digest === digest);
    if (!isOurs) {
      return [];
    }
    const problemAt = (at: Timestamp): string | undefined => trust && verifyRecord(read, trust, at).problem;
    const referrer = recordReferrer(digest, node);
    return [{ read, referrer, why: problemAt(read.record.published), whyNow: problemAt(now) }];
  });
}

/** The records of rollbacks that refer to a manifest. */
async function rollbacksOn(client: RepositoryClient, { listed }: ListedOn): Promise<RollbackRecord[]> {
  const read = await readOwnRecords(client, listed, (type) => type === rollbackType);
  return read.flatMap(({ bytes }) => readRollbackRecord(bytes) ?? []);
}

/** A tagged manifest, and its referrers. */
interface TaggedContent {
  readonly referrers: readonly Referrer[];
  readonly manifest: Manifest;
}

async function everythingOn(client: RepositoryClient, digest: Digest): Promise<readonly TaggedContent[]> {
  const manifest = await client.manifests.get(digest);
  if (manifest === undefined) {
    return [];
  }
  return [{ manifest, referrers: await findReferrers(await readContent(client, describeManifest(manifest))) }];
}

/** Finds which releases came into each environment, by the records that stand there. */
export function arrivalsIn({ environments }: Config, found: readonly RepositoryRemains[]): Map<string, FoundArrival[]> {
  return new Map(
    environments.map(({ name }) => {
      const here = found.filter(({ environment }) => environment === name);
      const ids = new Set(here.flatMap(({ records }) => records.map(({ record }) => record.release)));
      return [name, [...ids].map((id) => arrivalOf(id, here))];
    }),
  );
}

/** Finds the rollbacks of each environment, in the order of their time. */
export function rollbacksIn(
  { environments }: { readonly environments: readonly { readonly name: string }[] },
  found: readonly Pick<RepositoryRemains, 'environment' | 'rollbacks'>[],
): Map<string, RollbackRecord[]> {
  return new Map(
    environments.map(({ name }) => {
      const here = found.filter(({ environment }) => environment === name).flatMap(({ rollbacks }) => rollbacks);
      const each = new Map(here.map((record) => [JSON.stringify(record), record]));
      return [name, [...each.values()].sort((a, b) => (a.at < b.at ? -1 : 1))];
    }),
  );
}

function arrivalOf(release: ReleaseId, here: readonly RepositoryRemains[]): FoundArrival {
  const own = here.flatMap(({ component, client, records, referrers, manifests }) => {
    const placed = records
      .find(({ record }) => record.release === release)
      ?.record.components.find((each) => each.component === component);
    return placed === undefined
      ? []
      : [{ client, placed, referrers: referrers.get(placed.digest) ?? [], manifest: manifests.get(placed.digest) }];
  });
  return {
    release,
    components: own.map(({ client: { label: repository }, placed }) => ({ ...placed, repository })),
    referrers: unknownTo(
      new Facts(),
      own.map(({ client, referrers }) => ({ target: client, referrers })),
    ),
    imagesOf: (component) => {
      const found = own.find(({ placed }) => placed.component === component);
      return found?.manifest === undefined
        ? []
        : imagesByPlatform(found.manifest, found.placed.platforms).map((image) => ({ component, ...image }));
    },
  };
}
