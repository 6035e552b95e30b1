import type { Actor } from '../core/ledger/entry';
import { decideAcceptance, type Acceptance } from '../core/release/rules-acceptance';
import { inForceKeys, rulesInForce, type CheckoutRules } from '../core/release/gates/rules-in-force';
import { acceptanceText, rulesNamespace } from '../core/release/gates/sign-offs';
import { timestampOf } from '../core/time';
import { signAs } from '../delivery/sign-off';
import type { Ledger } from '../ledger/ledger';
import { withAnnouncing } from '../announcing/announce';
import { Judge } from '../delivery/judge';
import { commitOrders } from '../delivery/orders';
import { appendDeciding } from '../delivery/record';
import type { RulesResult } from '../results/record';
import { actorOf, signedBy } from '../session/actor';
import { refuseEmpty } from '../session/open-ledger';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import { readCheckoutRules } from '../workspace/checkout-rules';
import { environmentNamed, type Config } from '../workspace/config';
import { checkedOut } from '../workspace/git';
import { SharedRemoteReader } from '../workspace/shared-remote';

/** What `record rules` is told. */
export interface RecordRulesOptions extends SessionOptions {
  environment: string;
  reason: string;
  /** Sign with an SSH key: the path of a key, or what git signs with. */
  sign?: string | true | undefined;
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
      const { by, proof } = await acceptedBy(options, { config, session, ledger, here, actor });
      const context = { ledger, orders: commitOrders(config.folder), remote: new SharedRemoteReader(config) };
      const judge = new Judge(context, []);
      const { product } = config;
      const now = timestampOf(new Date());
      const acceptance = { product, environment, here, by: by.name, proof, reason: options.reason, now };
      const deciding = async () => {
        const judged = await judge.decide((known) => decideAcceptance(acceptance, known));
        return { ...judged, actions: dryRun ? [] : judged.value.actions };
      };
      const { value } = await appendDeciding({ ledger, product, actor: by, observer: session.observer }, deciding);
      const { differences, needed, inForce, actions } = value;
      return {
        ...{ product, environment, by: by.name, dryRun, isNew: actions.length > 0, digest: here.digest },
        ...{ differences: [...differences], accepted: [...value.by], needed, inForce },
      };
    });
  });
}

/** Who accepts rules, and what proves that. */
async function acceptedBy(
  { environment, sign, actor: named }: RecordRulesOptions,
  {
    config,
    session,
    ledger,
    here,
    actor,
  }: {
    readonly config: Config;
    readonly session: Session;
    readonly ledger: Ledger;
    readonly here: CheckoutRules;
    readonly actor: () => Promise<Actor>;
  },
): Promise<{ readonly by: Actor; readonly proof: Acceptance['proof'] }> {
  if (sign === undefined) {
    const by = await actor();
    return { by, proof: { issuer: by.issuer } };
  }
  // Who signs is found among the people whom the rules in force trust, not among those of this checkout.
  const { facts } = await ledger.read(inForceKeys(environment));
  const trust = (rulesInForce(facts, environment)?.rules ?? here.rules).trust;
  const text = acceptanceText({ product: config.product, environment, rules: here.digest });
  const { signature, by: name } = await signAs({ text, namespace: rulesNamespace }, sign, trust, config);
  return { by: await signedBy(name, named, config, session), proof: { signature } };
}
