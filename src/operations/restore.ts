import type { Actor } from '../core/ledger/entry';
import { withAnnouncing } from '../announcing/announce';
import { commitOrders } from '../delivery/orders';
import { placesIn } from '../delivery/places';
import { restoreTags } from '../delivery/restore';
import { toRestoreResult, type RestoreResult } from '../results/restore';
import { actorOf } from '../session/actor';
import { refuseEmpty } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { environmentNamed } from '../workspace/config';

/** What `restore` is told. */
export interface RestoreOptions extends SessionOptions {
  environment: string;
  actor?: string | undefined;
  dryRun?: true | undefined;
}

/** Puts every tag of an environment right that stands elsewhere than the ledger says. */
export async function restore(options: RestoreOptions): Promise<RestoreResult> {
  return withProduct(options, async (config, session) => {
    const { product, folder } = config;
    const environment = environmentNamed(config, options.environment);
    const { name } = environment;
    const dryRun = options.dryRun === true;
    const actor = (): Promise<Actor> => actorOf(options.actor, config, session);
    return withAnnouncing(config, session, { actor, dryRun }, async (ledger) => {
      await refuseEmpty(config, ledger);
      const places = await placesIn(config, environment, { ledger, session });
      const { observer } = session;
      const context = { ledger, orders: commitOrders(folder), actor: await actor(), product, observer, dryRun };
      const restored = await restoreTags(name, places, context);
      const requests = places.reduce((sum, { target }) => sum + target.requests, 0);
      return toRestoreResult({ product, environment: name, dryRun, requests }, restored);
    });
  });
}
