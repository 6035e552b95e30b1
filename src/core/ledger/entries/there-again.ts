import type { RepositoryName } from '../../oci/reference';
import type { Tag } from '../../oci/tag';
import { removalKey, removalOf, tagKey, type FactKey, type Facts } from '../facts';
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

/** A tag stands, or is to stand, where tidying had removed it. */
export function foldTagAgain(
  { repository, tag }: { readonly repository: RepositoryName; readonly tag: Tag },
  seq: number,
  before: Facts,
  after: Facts,
): void {
  const known = before.get('tag', tagKey(repository, tag));
  if (known !== undefined) {
    after.set('tag', tagKey(repository, tag), { ...known, tidied: undefined, seq });
  }
}
