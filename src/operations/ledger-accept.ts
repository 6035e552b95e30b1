import type { Actor } from '../core/ledger/entry';
import { HodError } from '../core/errors';
import { needReason } from '../core/release/despite';
import { withAnnouncing } from '../announcing/announce';
import { appendDeciding } from '../delivery/record';
import { readSignatures } from '../ledger/signed-head';
import type { LedgerAcceptResult } from '../results/ledger';
import { actorOf } from '../session/actor';
import { ledgerLabel, refuseEmpty } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';

/** What `ledger accept` is told. */
export interface AcceptOptions extends SessionOptions {
  reason: string;
  actor?: string | undefined;
  dryRun?: true | undefined;
}

/**
 * Accepts the entries of a signed ledger that nobody signed who is trusted, by a signed entry that says so.
 *
 * @throws `ledger-unsigned` where this run signs nothing.
 */
export async function acceptEntries(options: AcceptOptions): Promise<LedgerAcceptResult> {
  const reason = needReason(options.reason, 'hod ledger accept');
  return withProduct(options, async (config, session) => {
    const { product } = config;
    const dryRun = options.dryRun === true;
    const actor = (): Promise<Actor> => actorOf(options.actor, config, session);
    return withAnnouncing(config, session, { actor, dryRun }, async (ledger) => {
      await refuseEmpty(config, ledger);
      const by = await actor();
      const { signer } = by;
      if (signer === undefined) {
        throw new HodError('ledger-unsigned', {
          what: 'nothing signs in this run',
          object: config.file,
          why: 'hod.yaml names no key to sign with, and only a signed entry can accept others',
          next: 'name the key with `sign:` in hod.yaml',
        });
      }
      const { value } = await appendDeciding({ ledger, product, actor: by, observer: session.observer }, async () => {
        const state = await ledger.read([]);
        const { unsigned } = await readSignatures(ledger, signer.trust);
        const open = unsigned.filter(({ accepted }) => accepted === undefined);
        const [from, to] = [open[0]?.from, open.at(-1)?.to];
        const actions =
          dryRun || from === undefined || to === undefined
            ? []
            : [{ kind: 'entries-accepted', from, to, reason } as const];
        return { ...state, actions, value: { open, from: from ?? null, to: to ?? null } };
      });
      const { open, from, to } = value;
      return {
        ...{ product, ledger: ledgerLabel(config), by: by.name, dryRun, from, to, reason },
        entries: open.reduce((sum, { from, to }) => sum + to - from + 1, 0),
      };
    });
  });
}
