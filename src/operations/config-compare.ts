import { differencesInto } from '../core/release/gates/describe-rules';
import {
  inForceNeeds,
  judgedByNewest,
  rulesInForce,
  rulesNeeds,
  standingKnown,
  type CheckoutRules,
} from '../core/release/gates/rules-in-force';
import { inSpiteOfNothing } from '../core/release/despite';
import type { Decision, Knowledge } from '../core/release/knowledge';
import { Judge } from '../delivery/judge';
import { commitOrders } from '../delivery/orders';
import type { ConfigCompareResult } from '../results/config';
import { withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { readCheckoutRules } from '../workspace/checkout-rules';
import { environmentNamed } from '../workspace/config';
import { checkedOut } from '../workspace/git';
import { SharedRemoteReader } from '../workspace/shared-remote';

/** What `config compare` is told. */
export interface CompareConfigOptions extends SessionOptions {
  /** All where none is named. */
  environments: readonly string[];
}

type Compared = ConfigCompareResult['environments'][number];

/** Compares the rules of this hod.yaml with those in force. Reads the ledger, and asks the remote where they differ. */
export async function compareConfig(options: CompareConfigOptions): Promise<ConfigCompareResult> {
  return withProduct(options, async (config, session) => {
    const names =
      options.environments.length === 0
        ? config.environments.map(({ name }) => name)
        : options.environments.map((name) => environmentNamed(config, name).name);
    const here = await readCheckoutRules(config, await checkedOut(config.folder));
    return withLedger(config, session, 'read', async (ledger) => {
      const context = { ledger, orders: commitOrders(config.folder), remote: new SharedRemoteReader(config) };
      const environments: Compared[] = [];
      for (const name of names) {
        const judge = new Judge(context, []);
        environments.push((await judge.decide((known) => compareFor(name, here, known))).value);
      }
      return { product: config.product, file: config.file, digest: here.digest, environments };
    });
  });
}

function compareFor(environment: string, here: CheckoutRules, known: Knowledge): Decision<Compared> {
  const first = known.missing(inForceNeeds(environment));
  if (first !== undefined) {
    return first;
  }
  const { facts, ancestry } = known;
  const inForce = rulesInForce(facts, environment);
  const differences = inForce === undefined ? [] : differencesInto(environment, inForce.rules, here.rules);
  const needs = known.missing(
    differences.length === 0 ? [] : rulesNeeds(here, facts, { environment, isFollowed: true }),
  );
  if (needs !== undefined) {
    return needs;
  }
  const standing = standingKnown(known, environment);
  const gate = judgedByNewest(environment, here, { facts, ancestry, standing, despite: inSpiteOfNothing });
  return {
    kind: 'decided',
    value: {
      environment,
      inForce:
        inForce === undefined
          ? null
          : {
              digest: inForce.digest,
              commit: inForce.commit ?? null,
              source: inForce.source ?? null,
            },
      differences,
      accepted: gate === undefined || gate.outcome === 'met',
      reason: gate === undefined ? null : ([gate.detail].flat()[0] ?? null),
    },
  };
}
