import { HodError } from '../core/errors';
import { emptyHead } from '../core/ledger/entry';
import type { ReleaseId } from '../core/ledger/release';
import { signatureOf, type ReadRecord } from '../core/ledger/release-record';
import { describePosition } from '../core/tags/ordering';
import { signedEntriesAfter } from '../core/ledger/signed-entry';
import type { RecordSigner } from '../core/trust/signer';
import type { Ledger } from '../ledger/ledger';
import { tagKey } from '../core/ledger/facts';
import { dayOf, timestampOf } from '../core/time';
import { commitOrders } from '../delivery/orders';
import type { Remains } from '../rebuild/found';
import { rebuild, type Rebuilt } from '../rebuild/rebuild';
import { readNamed } from '../delivery/sources/choice';
import type { NamedChoice } from '../core/release/promotion';
import { settleAll } from '../system/promises';
import { versionNamed } from '../core/tags/version';
import { readFollowing } from '../delivery/sources/read-following';
import { arrivalsIn, readRemains, rollbacksIn, type RepositoryRemains } from '../rebuild/remains';
import { toRebuildResult, type RebuildResult } from '../results/rebuild';
import { actorOf } from '../session/actor';
import { ledgerLabel, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { environmentNamed, type Config } from '../workspace/config';
import { commitTimes } from '../workspace/git';

/** What `ledger rebuild` is told. */
export interface RebuildOptions extends SessionOptions {
  actor?: string | undefined;
  /** What environments serve, as `ENV=RELEASE`. */
  serves?: readonly string[] | undefined;
  /** Believe release records that nobody signed, where hod.yaml signs. */
  unsigned?: true | undefined;
  dryRun?: true | undefined;
}

/**
 * Makes a new ledger of what the registries tell: release records, what refers to components, and tags. Says what cannot be known.
 *
 * Throws `ledger-in-use` for a ledger that has entries, `nothing-to-rebuild` where no registry has a release record.
 */
export async function rebuildLedger(options: RebuildOptions): Promise<RebuildResult> {
  return withProduct(options, async (config, session) => {
    const dryRun = options.dryRun === true;
    const serves = await readServes(options.serves ?? [], config);
    return withLedger(config, session, dryRun ? 'read' : 'write', async (ledger) => {
      const { head } = await ledger.read([]);
      if (head.seq > 0) {
        throw ledgerInUse(config, `it has ${head.seq} entries`);
      }
      const { name: actor, signer } = await actorOf(options.actor, config, session);
      const trust = options.unsigned === true ? undefined : signer?.trust;
      const found = await readRemains(config, session, trust);
      const records = found.flatMap((each) => each.records);
      const releases = new Map(records.map(({ record }) => [record.release, record]));
      if (releases.size === 0) {
        throw nothingToRebuild(
          config,
          found.flatMap((each) => each.unbelieved),
        );
      }
      const rebuilt = await rebuild({
        product: config.product,
        environments: config.environments,
        releases,
        signatures: signaturesUnder(records),
        arrivals: arrivalsIn(config, found),
        rollbacks: rollbacksIn(config, found),
        served: tagsServed(found),
        following: ({ branch, commit, pullRequest = false }) => readFollowing(config, { branch, commit, pullRequest }),
        dayOf: async (commit) => {
          const time = (await commitTimes(config.folder, [commit])).get(commit);
          return time === undefined ? undefined : dayOf(time);
        },
        orders: commitOrders(config.folder),
        actor,
        now: timestampOf(new Date()),
        serves,
      });
      refuseUnclear(rebuilt);
      const about = { product: config.product, ledger: ledgerLabel(config), dryRun };
      if (!dryRun && (await append(rebuilt, signer, ledger)) === undefined) {
        throw ledgerInUse(config, 'somebody else added entries meanwhile');
      }
      return toRebuildResult({ ...about, believing: trust === undefined }, rebuilt, found);
    });
  });
}

/** Signs the entries, where hod.yaml names a key, and adds them to an empty ledger. */
async function append(
  { entries }: Rebuilt,
  signer: RecordSigner | undefined,
  ledger: Pick<Ledger, 'append'>,
): Promise<number | undefined> {
  const own = entries.map(({ entry }) => entry);
  return ledger.append(await signedEntriesAfter(emptyHead, own, signer), emptyHead);
}

function nothingToRebuild({ product, environments }: Config, unbelieved: RepositoryRemains['unbelieved']): HodError {
  const [first] = unbelieved;
  return new HodError('nothing-to-rebuild', {
    what: 'there is nothing to make a ledger of',
    object: environments.map(({ name }) => name).join(', '),
    why:
      first === undefined
        ? `no repository of ${product} holds a release record`
        : `no repository of ${product} holds a release record that a trusted key signed (${describePosition(first.record)}: ${first.why})`,
    next: `import a copy of the ledger (\`hod ledger import FILE\`), ${first === undefined ? '' : 'believe unsigned records (--unsigned), '}or publish once more: order is judged by what registries tell then`,
  });
}

/** The signatures under release records, by release. */
function signaturesUnder(records: readonly ReadRecord[]): Map<ReleaseId, string> {
  return new Map(
    records.flatMap((read) => {
      const signature = signatureOf(read);
      return signature === undefined ? [] : [[read.record.release, signature] as const];
    }),
  );
}

function tagsServed(found: readonly RepositoryRemains[]): Remains['served'] {
  const served = new Map(
    found.flatMap(({ client, tags }) => tags.map(({ tag, digest }) => [tagKey(client.label, tag), digest] as const)),
  );
  return (repository, tag) => served.get(tagKey(repository, tag));
}

/** Reads what somebody says that environments serve. Throws where an environment, or a release, is not named so. */
async function readServes(texts: readonly string[], config: Config): Promise<Map<string, NamedChoice>> {
  const named = await settleAll(
    texts.map(async (text) => {
      const [name = '', release = ''] = text.split(/=(.*)/s);
      const version = versionNamed(release);
      const commit = version === undefined ? release : undefined;
      const choice = await readNamed(config.folder, { version, commit }, '--serves');
      return choice === undefined ? [] : [[environmentNamed(config, name).name, choice] as const];
    }),
  );
  return new Map(named.flat());
}

/** Refuses to guess what an environment serves. */
function refuseUnclear({ unexplained }: Rebuilt): void {
  const unclear = unexplained.filter(({ isUnclear }) => isUnclear);
  if (unclear.length > 0) {
    throw new HodError('serves-unclear', {
      what: 'the registries do not tell what is served',
      object: unclear.map(({ environment }) => environment),
      why: unclear.map(({ environment, tags }) => {
        const more = tags.length > 5 ? `, and ${tags.length - 5} more` : '';
        return `no history leads to where tags of ${environment} are: ${tags.slice(0, 5).join(', ')}${more}`;
      }),
      next: unclear.map(
        ({ environment }) => `name the release: \`hod ledger rebuild --serves ${environment}=VERSION\``,
      ),
    });
  }
}

function ledgerInUse(config: Config, why: string): HodError {
  return new HodError('ledger-in-use', {
    what: 'this ledger is not made again',
    object: ledgerLabel(config),
    why,
    next: 'name a new ledger in hod.yaml (`ledger:`) where this one is beyond repair; nothing was changed',
  });
}
