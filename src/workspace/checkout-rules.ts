import type { CommitId } from '../core/commit';
import { rulesDigest, type ProductRules } from '../core/ledger/rules';
import type { CheckoutRules } from '../core/release/gates/rules-in-force';
import type { Config } from './config';
import { readTrust } from './trust';

/**
 * Reads the rules of the checkout that hod.yaml is in: those of hod.yaml, with the keys that it trusts, and the commit that is
 * checked out, where there is one.
 *
 * @throws `trust-unusable`
 */
export async function readCheckoutRules(
  config: Pick<Config, 'environments' | 'trust' | 'groups' | 'folder'>,
  commit: CommitId | undefined,
): Promise<CheckoutRules> {
  const rules: ProductRules = {
    environments: config.environments.map(
      ({ name, after = null, follows, takes, receives, admissionRules, tagRules }) => {
        return { name, after, follows, takes, tags: tagRules, receives, gates: admissionRules };
      },
    ),
    trust: await readTrust(config),
    groups: config.groups,
  };
  return { rules, digest: rulesDigest(rules), commit };
}
