import type { Actor } from '../core/ledger/entry';
import { decideAcceptance } from '../core/release/rules-acceptance';
import { withAnnouncing } from '../announcing/announce';
import { Judge } from '../delivery/judge';
import { commitOrders } from '../delivery/orders';
import { appendDeciding } from '../delivery/record';
import type { RulesResult } from '../results/record';
import { actorOf } from '../session/actor';
import { refuseEmpty } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { readCheckoutRules } from '../workspace/checkout-rules';
import { environmentNamed } from '../workspace/config';
import { checkedOut } from '../workspace/git';
import { SharedRemoteReader } from '../workspace/shared-remote';

/** What `record rules` is told. */
export interface RecordRulesOptions extends SessionOptions {
  environment: string;
  reason: string;
  actor?: string | undefined;
  dryRun?: true | undefined;
}

/** Records that somebody accepts the rules of this hod.yaml for an environment. */
export async function recordRules(options: RecordRulesOptions): Promise<RulesResult> {
  return withProduct(options, async (config, session) => {
    const environment = environmentNamed(config, options.environment).name;
    const here = await readCheckoutRules(config, await checkedOut(config.folder));
    const dryRun = options.dryRun === true;
    const actor = (): Promise<Actor> => actorOf(options.actor, config, session);
    return withAnnouncing(config, session, { actor, dryRun }, async (ledger) => {
      await refuseEmpty(config, ledger);
      const by = await actor();
      const context = { ledger, orders: commitOrders(config.folder), remote: new SharedRemoteReader(config) };
      const judge = new Judge(context, []);
      const acceptance = { environment, here, by: by.name, reason: options.reason };
      const deciding = async () => {
        const judged = await judge.decide((known) => decideAcceptance(acceptance, known));
        return { ...judged, actions: dryRun ? [] : judged.value.actions };
      };
      const { product } = config;
      const { value } = await appendDeciding({ ledger, product, actor: by, observer: session.observer }, deciding);
      const { differences, needed, inForce, actions } = value;
      return {
        ...{ product, environment, by: by.name, dryRun, isNew: actions.length > 0, digest: here.digest },
        ...{ differences: [...differences], accepted: [...value.by], needed, inForce },
      };
    });
  });
}
