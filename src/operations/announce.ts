import { announceAll, refuseNobody } from '../announcing/announce';
import type { AnnounceResult } from '../results/announce';
import { actorOf } from '../session/actor';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';

/** What `announce` is told. */
export interface AnnounceOptions extends SessionOptions {
  actor?: string | undefined;
}

/** Tells every receiver what it was not told yet. Throws `nobody-to-tell` where hod.yaml names none. */
export async function announce(options: AnnounceOptions): Promise<AnnounceResult> {
  return withProduct(options, async (config, session) => {
    refuseNobody(config);
    return withLedger(config, session, 'write', async (ledger) => {
      await refuseEmpty(config, ledger);
      const told = await announceAll(config, session, ledger, await actorOf(options.actor, config, session));
      return {
        product: config.product,
        receivers: told.map(({ receiver, delivered, failed }) => ({ receiver, delivered, failed: failed ?? null })),
      };
    });
  });
}
