import { compareOrder, type Ancestry, type Position } from '../tags/ordering';
import { servedIn } from '../ledger/environment';
import { listedIn, type Facts, type ServedComponent } from '../ledger/facts';
import type { Origin } from './component-arrival';
import { factNeed, type Need } from './knowledge';

/** A release that comes into an environment, and every component that the product had when it was built. */
interface Coming {
  readonly environment: string;
  readonly origin: Origin;
  readonly lists: readonly string[];
}

/**
 * Names the releases that {@link retiringWith} and {@link retiredBy} read: those of components that the product had no more, and all
 * that are served where something comes that is not. Mostly none.
 *
 * @param components The components that come in.
 */
export function retirementNeeds(
  components: readonly string[],
  { environment, lists }: Pick<Coming, 'environment' | 'lists'>,
  facts: Facts,
): Need[] {
  const served = servedIn(facts, environment);
  const isNew = components.some((name) => !served.some(({ component }) => component === name));
  return served
    .filter(({ component }) => isNew || !lists.includes(component))
    .map(({ release }) => factNeed('release', release));
}

/**
 * Finds the components that retire with a release: the environment serves them from an older release, and the product had them no
 * more when this one was built.
 */
export function retiringWith(coming: Coming, facts: Facts, ancestry: Ancestry): string[] {
  const { environment, origin, lists } = coming;
  return servedIn(facts, environment)
    .filter(({ component }) => !lists.includes(component))
    .filter((served) => isOfProduct(served, lists, facts) && compareOrder(origin, served, ancestry) === 'newer')
    .map(({ component }) => component);
}

/**
 * Finds a release that an environment serves, that is newer, and whose product had a component no more: an older build that comes
 * late does not bring the component back. Undefined where there is none. Asked only of a component that is not served.
 */
export function retiredBy(
  component: string,
  { environment, origin, lists }: Coming,
  facts: Facts,
  ancestry: Ancestry,
): Position | undefined {
  return servedIn(facts, environment).find((served) => {
    const release = facts.get('release', served.release);
    return (
      release !== undefined &&
      !listedIn(release).includes(component) &&
      isOfProduct(served, lists, facts) &&
      compareOrder(origin, served, ancestry) === 'older'
    );
  });
}

/**
 * Whether what is served and a release are of one product: it had some component at both times. Where two configurations share a
 * ledger and the name of a product, neither retires the components of the other.
 */
function isOfProduct({ release: id }: ServedComponent, lists: readonly string[], facts: Facts): boolean {
  const release = facts.get('release', id);
  return release !== undefined && listedIn(release).some((name) => lists.includes(name));
}
