import { compareOrder, type Ancestry, type Position } from '../tags/ordering';
import { servedIn } from '../ledger/environment';
import { listedIn, type Facts } from '../ledger/facts';
import type { Origin, PositionedComponent } from './component-arrival';

/** A release that takes over an environment, and every component that the product had when it was built. */
interface TakingOver {
  readonly environment: string;
  readonly origin: Origin;
  readonly lists: readonly string[];
}

/**
 * Finds the components that retire with a release: the environment serves them from an older release, and the product had them no
 * more when this one was built.
 */
export function retiringWith({ environment, origin, lists }: TakingOver, facts: Facts, ancestry: Ancestry): string[] {
  return servedIn(facts, environment)
    .filter(({ component }) => !lists.includes(component))
    .filter((served) => compareOrder(origin, served, ancestry) === 'newer')
    .map(({ component }) => component);
}

/**
 * Finds a release that an environment serves, that is newer, and whose product had a component no more: an older build that comes
 * late does not bring the component back. Undefined where there is none.
 */
export function retiredBy(
  { component, environment, origin }: PositionedComponent,
  facts: Facts,
  ancestry: Ancestry,
): Position | undefined {
  return servedIn(facts, environment).find((served) => {
    const release = facts.get('release', served.release);
    return (
      release !== undefined &&
      !listedIn(release).includes(component) &&
      compareOrder(origin, served, ancestry) === 'older'
    );
  });
}
