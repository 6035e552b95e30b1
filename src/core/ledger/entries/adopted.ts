import * as z from 'zod';
import { contentId, placedComponentSchema, releaseImageSchema } from '../release';
import { arrivalFields, factsOfArrival, foldArrival } from './arrival';
import { defineAction } from './action';
import { factsOfDigests, foldDigests } from './known-digests';
import { foldNames, releaseOf } from './published';

const schema = z.object({
  kind: z.literal('adopted'),
  ...arrivalFields,
  /** The environment that releases come from; null where builds are published. */
  from: z.string().nullable(),
  reason: z.string(),
  /** Everything that the release holds, where the environment has only some of it. */
  holds: z.array(placedComponentSchema).optional(),
  /** The followed branches that contain its commit. */
  branches: z.array(z.string()),
  /** Every component that the product had then, where these are only some of them. */
  lists: z.array(z.string()).optional(),
  /** Every image that the components hold. */
  images: z.array(releaseImageSchema).optional(),
});
type Adopted = z.infer<typeof schema>;

/** An environment served a release before the ledger began, or had it as the newest of a line of versions or a branch. */
export const adopted = defineAction<Adopted, typeof schema>('adopted', {
  schema,
  reads: (action) => [...factsOfArrival(action), ...factsOfDigests(heldBy(action))],
  fold(action, circumstances, before, after) {
    const { release, environment } = action;
    const known = before.get('release', release);
    const own = known ?? releaseOf(heldBy(action), circumstances);
    foldArrival({ ...action, adopted: true }, circumstances, own, { before, after });
    const now = after.get('environment', environment);
    const earlier = before.get('environment', environment);
    if (now !== undefined && (earlier === undefined || earlier.adopting === true)) {
      after.set('environment', environment, { ...now, adopting: true });
    }
    if (known === undefined) {
      foldNames(action, contentId(own.components), before, after);
    }
    foldDigests(heldBy(action), before, after);
  },
});

/** The same, with everything that the release holds as its components. */
function heldBy(action: Adopted): Adopted {
  return { ...action, components: action.holds ?? action.components };
}
