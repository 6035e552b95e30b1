import { HodError } from '../core/errors';
import type { RepositoryName } from '../core/oci/reference';
import { emptyHead } from '../core/ledger/entry';
import { tagKey } from '../core/ledger/facts';
import type { Tag } from '../core/oci/tag';
import { dayOf, timestampOf } from '../core/time';
import { commitOrders } from '../delivery/orders';
import { rebuild } from '../rebuild/rebuild';
import { readFollowing } from '../delivery/sources/read-following';
import { arrivalsIn, readRemains } from '../rebuild/remains';
import { toRebuildResult, type RebuildResult } from '../results/rebuild';
import { actorOf } from '../session/actor';
import { ledgerLabel, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import type { Config } from '../workspace/config';
import { readGit } from '../workspace/git';

/** What `ledger rebuild` is told. */
export interface RebuildOptions extends SessionOptions {
  actor?: string | undefined;
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
    return withLedger(config, session, dryRun ? 'read' : 'write', async (ledger) => {
      const { head } = await ledger.read([]);
      if (head.seq > 0) {
        throw ledgerInUse(config, `it has ${head.seq} entries`);
      }
      const found = await readRemains(config, session);
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
        following: ({ branch, commit, pullRequest = false }) => readFollowing(config, { branch, commit, pullRequest }),
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
      return toRebuildResult({ product: config.product, ledger: ledgerLabel(config), dryRun }, rebuilt, found);
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
