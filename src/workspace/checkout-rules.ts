import type { CommitId } from '../core/commit';
import { rulesDigest, type ProductRules } from '../core/ledger/rules';
import type { CheckoutRules } from '../core/release/gates/rules-in-force';
import type { Config } from './config';

/** The rules of the checkout that hod.yaml is in: those of hod.yaml, and the commit that is checked out, where there is one. */
export function checkoutRules(config: Pick<Config, 'environments'>, commit: CommitId | undefined): CheckoutRules {
  const rules: ProductRules = {
    environments: config.environments.map(({ name, after = null, takes, receives, admissionRules }) => {
      return { name, after, takes, receives, gates: admissionRules };
    }),
  };
  return { rules, digest: rulesDigest(rules), commit };
}
