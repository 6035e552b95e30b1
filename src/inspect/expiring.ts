import { expiringIn, expiringKeys, waitingIds, type Expiring } from '../core/insight/expiring';
import { Facts, type FactKey } from '../core/ledger/facts';
import { contentId } from '../core/ledger/release';
import type { ProductRules } from '../core/ledger/rules';
import { timestampOf } from '../core/time';
import type { Ledger } from '../ledger/ledger';

/** Reads what grows old of what environments ask for. */
export async function readExpiring(rules: ProductRules, ledger: Pick<Ledger, 'read'>): Promise<Expiring[]> {
  const environments = expiringKeys(rules);
  // Where no result grows old, the ledger is not asked.
  const first = environments.length === 0 ? new Facts() : (await ledger.read(environments)).facts;
  const ids = waitingIds(rules, first);
  const releases = ids.map((key): FactKey => ({ kind: 'release', key }));
  const second = ids.length === 0 ? first : (await ledger.read([...environments, ...releases])).facts;
  const evidence = ids.flatMap((id): FactKey[] => {
    const release = second.get('release', id);
    return release === undefined ? [] : [{ kind: 'evidence', key: contentId(release.components) }];
  });
  const facts = evidence.length === 0 ? second : (await ledger.read([...environments, ...releases, ...evidence])).facts;
  return expiringIn(rules, facts, timestampOf(new Date()));
}
