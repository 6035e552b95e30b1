import { servedIn } from '../core/ledger/environment';
import type { Judged } from './judge';
import type { TagDecision } from '../core/release/tag-decisions';
import { watchTags, type WatchedTags } from '../core/release/restoration';
import { settleAll } from '../system/promises';
import type { DeliveryContext } from './delivery';
import { Judge } from './judge';
import type { Place } from './places';

/** The watched tags of an environment, and those of the stray ones whose content is gone. */
export interface ReadTags extends WatchedTags {
  /** What these are to lead to is needed, and is not in the registry. */
  readonly lost: readonly TagDecision[];
}

/** Reads which tags of an environment stand elsewhere than the ledger says. */
export async function readWatchedTags(
  environment: string,
  places: readonly Place[],
  context: Pick<DeliveryContext, 'orders' | 'ledger'>,
): Promise<ReadTags & Pick<Judged<unknown>, 'facts' | 'head'>> {
  const placeOf = new Map(places.map(({ component, target }) => [component, target.label]));
  const judge = new Judge(context, places);
  const { value, facts, head } = await judge.decide((known) =>
    watchTags(environment, (component) => placeOf.get(component), known),
  );
  const isThere = await settleAll(
    value.stray.map(async ({ component, digest, outcome }) => {
      const target = places.find((each) => each.component === component)?.target;
      return outcome === 'removed' || (await target?.manifests.resolve(digest)) !== undefined;
    }),
  );
  const served = servedIn(facts, environment);
  const isNeeded = ({ kind, digest }: TagDecision): boolean =>
    kind === 'moving' || served.some((each) => each.digest === digest);
  return {
    facts,
    head,
    count: value.count,
    stray: value.stray.filter((_, at) => isThere[at]),
    // An old release may be cleaned up with its tags.
    lost: value.stray.filter((each, at) => isThere[at] !== true && (isNeeded(each) || each.served !== undefined)),
  };
}
