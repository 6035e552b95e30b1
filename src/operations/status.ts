import { brief, readStatus, type StatusQuestion } from '../inspect/status';
import { toStatusResult, type StatusResult } from '../results/status';
import { withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';

/** What `status` is told. */
export interface StatusOptions extends SessionOptions, StatusQuestion {}

/** What each environment serves by the ledger, what waits to come in, and whether the registries still agree. */
export async function status(options: StatusOptions): Promise<StatusResult> {
  return withProduct({ patience: brief, ...options }, (config, session) =>
    withLedger(config, session, 'read', async (ledger) =>
      toStatusResult(await readStatus(options, { config, session, ledger })),
    ),
  );
}
