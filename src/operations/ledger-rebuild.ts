import { allBytes } from '../core/bytes';
import { HodError } from '../core/errors';
import { readContent, verified } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { describeManifest, manifestSizeLimit } from '../core/oci/manifest';
import type { RepositoryName } from '../core/oci/reference';
import { readDigestTag } from '../core/oci/referrers';
import { emptyHead } from '../core/ledger/entry';
import { Facts, tagKey } from '../core/ledger/facts';
import { isProtectionTag } from '../core/build/component';
import type { ReleaseId } from '../core/ledger/release';
import { readRecord, recordType, type ReleaseRecord } from '../core/ledger/release-record';
import type { Tag } from '../core/tags/tag';
import { dayOf, timestampOf } from '../core/time';
import { unknownTo } from '../delivery/attach';
import { attachmentsOf, type Attachment } from '../delivery/attachments';
import { allSettled } from '../delivery/carry';
import { commitOrders } from '../delivery/orders';
import { rebuild, type FoundArrival, type Rebuilt } from '../delivery/rebuild';
import { readFollowing } from '../delivery/sources/read-following';
import type { RepositoryClient } from '../registry/repository';
import type { RebuildResult } from '../results/rebuild';
import { servedIn } from '../core/ledger/environment';
import { actorOf } from '../session/actor';
import { ledgerLabel, withLedger } from '../session/open-ledger';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import type { Config, EnvironmentConfig } from '../workspace/config';
import { readGit } from '../workspace/git';

/** What `ledger rebuild` is told. */
export interface RebuildOptions extends SessionOptions {
  actor?: string | undefined;
  dryRun?: true | undefined;
}

/**
 * Makes a new ledger of what the registries tell: release records, what refers to images, and tags. Says what cannot be known.
 *
 * Throws `ledger-in-use` for a ledger that has entries, `nothing-to-rebuild` where no registry has a release record.
 */
export async function rebuildLedger(options: RebuildOptions): Promise<RebuildResult> {
  return withProduct(options, async (config, session) => {
    const dryRun = options.dryRun === true;
    return withLedger(config, session, dryRun ? 'read' : 'write', async (ledger) => {
      const { head } = await ledger.read([]);
      if (head.seq > 0) {
        throw ledgerInUse(config, `it has ${head.seq} entries`);
      }
      const found = await lookEverywhere(config, session);
      const releases = new Map(
        found.flatMap(({ records }) => records.map((record) => [record.release, record] as const)),
      );
      if (releases.size === 0) {
        throw new HodError('nothing-to-rebuild', {
          what: 'there is nothing to make a ledger of',
          object: config.environments.map(({ name }) => name).join(', '),
          why: `no repository of ${config.product} holds a release record`,
          next: 'import a copy of the ledger (`hod ledger import`), or publish once more: order is judged by what registries tell then',
        });
      }
      const served = new Map(
        found.flatMap(({ client, tags }) =>
          tags.map(({ tag, digest }) => [tagKey(client.label, tag), digest] as const),
        ),
      );
      const rebuilt = await rebuild({
        product: config.product,
        environments: config.environments,
        releases,
        arrivals: arrivalsIn(config, found),
        served: (repository: RepositoryName, tag: Tag) => served.get(tagKey(repository, tag)),
        following: ({ branch, commit }) => readFollowing(config, { branch, commit, pullRequest: false }),
        dayOf: async (commit) => {
          const git = await readGit(config.folder, commit);
          return 'commit' in git && git.commit.time !== undefined ? dayOf(git.commit.time) : undefined;
        },
        orders: commitOrders(config.folder),
        actor: (await actorOf(options.actor, config, session)).name,
        now: timestampOf(new Date()),
      });
      if (!dryRun && (await ledger.append(rebuilt.entries, emptyHead)) === undefined) {
        throw ledgerInUse(config, 'somebody else added entries meanwhile');
      }
      return toResult(config, dryRun, rebuilt, found, releases.size);
    });
  });
}

function ledgerInUse(config: Config, why: string): HodError {
  return new HodError('ledger-in-use', {
    what: 'this ledger is not made again',
    object: ledgerLabel(config),
    why,
    next: 'name a new ledger in hod.yaml (`ledger:`) where this one is beyond repair; nothing was changed',
  });
}

/** What one repository tells. */
interface FoundRepository {
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

function lookEverywhere(config: Config, session: Session): Promise<FoundRepository[]> {
  return allSettled(
    config.environments.flatMap((environment) =>
      config.components.map(({ name }) => look(environment, name, config.product, session)),
    ),
  );
}

async function look(
  environment: EnvironmentConfig,
  image: string,
  product: string,
  session: Session,
): Promise<FoundRepository> {
  const client = session.client(environment.repositoryOf(image));
  const names: Tag[] = [];
  let staged = 0;
  for await (const tag of client.tags.list()) {
    staged += isProtectionTag(tag) ? 1 : 0;
    if (readDigestTag(tag) === undefined && !isProtectionTag(tag)) {
      names.push(tag);
    }
  }
  const resolved = await allSettled(names.map(async (tag) => ({ tag, digest: await client.manifests.resolve(tag) })));
  const tags = resolved.flatMap(({ tag, digest }) => (digest === undefined ? [] : [{ tag, digest }]));
  const digests = [...new Set(tags.map(({ digest }) => digest))];
  const told = new Map(
    await allSettled(digests.map(async (digest) => [digest, await recordsOn(client, image, digest, product)] as const)),
  );
  const known = digests.filter((digest) => (told.get(digest)?.length ?? 0) > 0);
  const attachments = await allSettled(
    known.map(async (digest) => [digest, await everythingOn(client, digest)] as const),
  );
  return {
    environment: environment.name,
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
  image: string,
  digest: Digest,
  product: string,
): Promise<{ record: ReleaseRecord; attachment: Attachment }[]> {
  const listed = (await client.referrers.list(digest)).filter(({ artifactType }) => artifactType === recordType);
  const read = await allSettled(
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

/** Which releases came into each environment, by the records that stand there. */
function arrivalsIn({ environments }: Config, found: readonly FoundRepository[]): Map<string, FoundArrival[]> {
  return new Map(
    environments.map(({ name }) => {
      const here = found.filter(({ environment }) => environment === name);
      const ids = new Set(here.flatMap(({ records }) => records.map(({ release }) => release)));
      return [name, [...ids].map((id) => arrivalOf(id, here))];
    }),
  );
}

function arrivalOf(release: ReleaseId, here: readonly FoundRepository[]): FoundArrival {
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

function toResult(
  config: Config,
  dryRun: boolean,
  { entries, facts, unexplained }: Rebuilt,
  found: readonly FoundRepository[],
  releases: number,
): RebuildResult {
  const unknown = found.filter((each) => each.unknown.length > 0);
  const staged = found.reduce((sum, each) => sum + each.staged, 0);
  const later = config.environments.slice(1).map(({ name }) => name);
  return {
    product: config.product,
    ledger: ledgerLabel(config),
    dryRun,
    entries: entries.length,
    releases,
    environments: config.environments.map(({ name }) => ({
      environment: name,
      serves: servedIn(facts, name).map(({ image, digest, version, commit }) => {
        return { image, digest, version: version ?? null, commit };
      }),
    })),
    notRecovered: [
      { what: 'evidence', detail: 'results and sign-offs: record them again for what is to be promoted' },
      { what: 'actors', detail: 'who published and promoted; a sign-off by who published is not told apart' },
      ...(later.length === 0
        ? []
        : [
            {
              what: 'arrivals',
              detail: `when releases came into ${later.join(', ')}, and in which order: they are taken to have come once, in the order of their publication, now; soak times begin anew`,
            },
          ]),
      {
        what: 'withdrawals',
        detail:
          'rollbacks that moved no tag, or after which something came: nothing keeps what was rolled back from coming back, and what came then may be taken for something that came beside',
      },
      ...(staged === 0
        ? []
        : [{ what: 'staged', detail: `${staged} staged parts that were not published yet: stage them again` }]),
      ...unknown.map(({ client, unknown: tags }) => ({
        what: 'without-record',
        detail: `${client.label}: ${tags.length} tags lead to images without a release record (${tags.slice(0, 3).join(', ')}${tags.length > 3 ? ', …' : ''}); order is judged by what they tell`,
      })),
      ...unexplained.map(({ environment, tags }) => ({
        what: 'tags',
        detail: `${environment}: no history leads to where these tags are: ${tags.slice(0, 5).join(', ')}; the next promotion puts them right`,
      })),
    ],
  };
}
