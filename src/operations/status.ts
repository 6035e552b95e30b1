import { refuseNobody, withAnnouncing } from '../announcing/announce';
import { baseFacts, movedBases } from '../core/insight/moved-bases';
import { appendDeciding } from '../delivery/record';
import { brief, readStatus, type StatusQuestion } from '../inspect/status';
import { toStatusResult, type StatusResult } from '../results/status';
import { actorOf } from '../session/actor';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import type { Config } from '../workspace/config';

/** What `status` is told. */
export interface StatusOptions extends SessionOptions, StatusQuestion {
  /** Tell receivers of bases that moved, each movement once. */
  announce?: true | undefined;
}

/** What each environment serves by the ledger, what waits to come in, and whether the registries still agree. */
export async function status(options: StatusOptions): Promise<StatusResult> {
  return withProduct({ patience: brief, ...options }, (config, session) =>
    options.announce === true
      ? announcingBases(options, config, session)
      : withLedger(config, session, 'read', async (ledger) =>
          toStatusResult(await readStatus(options, { config, session, ledger })),
        ),
  );
}

/** The same, and bases that moved are recorded, where the ledger does not know of it, so that receivers are told. */
async function announcingBases(options: StatusOptions, config: Config, session: Session): Promise<StatusResult> {
  refuseNobody(config);
  const { product } = config;
  const actor = () => actorOf(undefined, config, session);
  return withAnnouncing(config, session, { actor, dryRun: false }, async (ledger) => {
    await refuseEmpty(config, ledger);
    const found = await readStatus(options, { config, session, ledger });
    const bases = found.bases ?? [];
    const context = { ledger, product, actor: await actor(), observer: session.observer };
    await appendDeciding(context, async () => {
      const { head, facts } = await ledger.read(baseFacts(bases));
      return { head, facts, actions: movedBases(bases, facts), value: undefined };
    });
    return toStatusResult(found);
  });
}
