import { removalKey, removalOf, type FactKey, type Facts } from '../facts';
import type { PlacedComponent } from '../release';

/** The facts about the removal of components from their repositories. */
export function factsOfRemovals(components: readonly Pick<PlacedComponent, 'repository' | 'digest'>[]): FactKey[] {
  return components.map(({ repository, digest }) => removalKey(repository, digest));
}

/** Components are in their repositories: those that tidying removed are there again. */
export function foldThereAgain(
  components: readonly Pick<PlacedComponent, 'repository' | 'digest'>[],
  before: Facts,
  after: Facts,
): void {
  for (const { repository, digest } of components) {
    if (removalOf(before, repository, digest) !== undefined) {
      after.set('removal', removalKey(repository, digest).key, null);
    }
  }
}
