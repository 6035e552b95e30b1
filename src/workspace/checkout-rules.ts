import { rulesDigest, type ProductRules } from '../core/ledger/rules';
import type { CheckoutRules } from '../core/release/gates/rules-in-force';
import type { Config } from './config';
import { checkedOut } from './git';

/** Reads the rules of the checkout that hod.yaml is in: those of hod.yaml, and the commit that is checked out. */
export async function readCheckoutRules(config: Pick<Config, 'folder' | 'environments'>): Promise<CheckoutRules> {
  const rules: ProductRules = {
    environments: config.environments.map(({ name, after = null, takes, admissionRules }) => {
      return { name, after, takes, gates: admissionRules };
    }),
  };
  return { rules, digest: rulesDigest(rules), commit: await checkedOut(config.folder) };
}
