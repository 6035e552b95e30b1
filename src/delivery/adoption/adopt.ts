import { decideAdoption, type Adoption, type AdoptionVerdict } from '../../core/release/adoption';
import type { DeliveryContext } from '../delivery';
import { Judge } from '../judge';
import { appendDeciding, type RecordContext } from '../record';

/**
 * Records what environments served before their ledger began: all that is asked for, or nothing. No tag moves, and nothing is sent
 * to a registry.
 *
 * @throws {@link HodError} `served-already`
 */
export async function recordAdoption(
  adoption: Adoption,
  context: RecordContext & Pick<DeliveryContext, 'dryRun' | 'orders'> & { readonly begun?: number },
): Promise<AdoptionVerdict> {
  const judge = new Judge(context, []);
  const deciding = () => judge.decide((known) => decideAdoption(adoption, known));
  if (context.dryRun) {
    return (await deciding()).value;
  }
  const { value } = await appendDeciding(context, async () => {
    const judged = await deciding();
    return { ...judged, actions: judged.value.actions, begun: context.begun ?? judged.begun };
  });
  return value;
}
