import { listedIn } from '../core/ledger/facts';
import type { ReleaseRecord } from '../core/ledger/release-record';
import { decideAdoption, isInUse, type Adoption, type FoundContent } from '../core/release/adoption';
import { setTagOf, withTaggedImages } from '../core/release/verdict';
import { wantedTags } from '../core/tags/rules';
import type { Orders } from '../delivery/delivery';
import type { FoundArrival, LostEnvironment } from './found';
import type { RebuiltLedger } from './rebuilt-ledger';

/**
 * Plays the adoption of a release whose record an environment has, and that none before it ever had: it was there before the ledger
 * that was lost. Does nothing where something was promoted there since.
 */
export async function adoptAgain(
  record: ReleaseRecord,
  { components, imagesOf }: FoundArrival,
  { name, before, rulesOf }: LostEnvironment,
  { ledger, product, orders }: { ledger: RebuiltLedger; product: string; orders: Orders },
): Promise<void> {
  if (isInUse(name, ledger.facts)) {
    return;
  }
  const { commit, version, branch } = record;
  const contents = components.map((placed): FoundContent => {
    const { component, digest } = placed;
    const values = { product, commit, version, branch, dirty: false };
    const { wanted, images } = wantedTags(rulesOf(component), values, component, {
      digest,
      images: imagesOf(component),
    });
    return {
      ...{ placed: withTaggedImages(placed, images), holds: imagesOf(component) },
      ...{ commit, version, branch: undefined, isServed: true },
      branches: branch === undefined || record.pullRequest === true ? [] : [branch],
      tags: wanted.map((each) => setTagOf(each, placed)),
      follows: wanted.flatMap(({ rule }) => (rule.kind === 'moving' ? [rule.follows] : [])),
    };
  });
  const adoption: Adoption = {
    product,
    environments: [{ environment: name, from: before[0] ?? null, contents }],
    lists: listedIn(record),
    reason: '',
    anew: true,
  };
  const judge = ledger.judge(
    components.map(({ repository }) => repository),
    orders,
  );
  const { value } = await judge.decide((known) => decideAdoption(adoption, known));
  value.actions.forEach((action) => {
    ledger.add(action, record.published);
  });
}
