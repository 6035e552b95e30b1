import * as z from 'zod';
import { compareVersions, isPrerelease, versionLinesOf, type Version } from '../../tags/version';
import { noEvidence, type Fact, type Facts, type Release } from '../facts';
import { contentId, releaseImageSchema, type ContentId, type ReleaseImage } from '../release';
import { defineAction, type Circumstances } from './action';
import { factsOfDigests, foldDigests } from './known-digests';
import { factsOfStagedIn, foldUnstaged } from './staged';
import { arrivalFields, arrivedContent, factsOfArrival, foldArrival } from './arrival';

const schema = z.object({
  kind: z.literal('published'),
  ...arrivalFields,
  /** The branches that it was built of, or that contain its commit; of the build of a pull request, none. */
  branches: z.array(z.string()).optional(),
  /** Every component that the product had then, where these are only some of them. */
  lists: z.array(z.string()).optional(),
  /** Every image that the components hold. */
  images: z.array(releaseImageSchema).optional(),
  /** The signature under the record of the release, in base64. */
  recordSignature: z.string().optional(),
});
type Published = z.infer<typeof schema>;

/** A build became a release, in the first environment. */
export const published = defineAction<Published, typeof schema>('published', {
  schema,
  reads: (action) => [
    ...factsOfArrival(action),
    ...factsOfStagedIn(action.components),
    ...factsOfDigests(action),
    { kind: 'evidence', key: arrivedContent(action) },
  ],
  fold(action, circumstances, before, after) {
    const known = before.get('release', action.release);
    const own = releaseOf(action, circumstances);
    const branches = [...new Set([...(known?.branches ?? []), ...own.branches])];
    foldArrival(action, circumstances, { ...(known ?? own), branches }, { before, after });
    foldPublisher(arrivedContent(action), circumstances, before, after);
    foldUnstaged(action, before, after);
    foldDigests(action, before, after);
    if (known === undefined) {
      foldNames(action, contentId(action.components), before, after);
    }
  },
});

/** A new release is found by its commit and its version from now on. */
export function foldNames(
  { release, commit, version }: Pick<Published, 'release' | 'commit' | 'version'>,
  content: ContentId,
  before: Facts,
  after: Facts,
): void {
  if (version !== undefined || before.get('commit', commit)?.version === undefined) {
    after.set('commit', commit, { release, version, content });
  }
  if (version !== undefined) {
    foldVersion({ version, release, commit, content }, before, after);
  }
}

/** Who published some content does not sign it off, also where somebody else publishes it later. */
function foldPublisher(content: ContentId, { actor }: Circumstances, before: Facts, after: Facts): void {
  const evidence = before.get('evidence', content) ?? noEvidence;
  const { publishers } = evidence;
  if (!publishers.includes(actor)) {
    after.set('evidence', content, { ...evidence, publishers: [...publishers, actor] });
  }
}

/** A release as it is before it came anywhere. */
export function releaseOf(
  action: Omit<Published, 'kind' | 'images'> & { readonly images?: readonly ReleaseImage[] | undefined },
  { at, actor }: Pick<Circumstances, 'at' | 'actor'>,
): Release {
  const { release, commit, version, branch, build, run, components, lists, images, recordSignature } = action;
  const branches = action.branches ?? (branch === undefined ? [] : [branch]);
  return {
    ...{ release, commit, version, branch, branches, build, run, at, components, lists, recordSignature },
    ...{ images: images && [...images], by: actor, arrived: [] },
  };
}

function foldVersion(
  { version, release, commit, content }: Fact<'version'> & Fact<'line'> & { version: Version },
  before: Facts,
  after: Facts,
): void {
  if (before.get('version', version) === undefined) {
    after.set('version', version, { release, content });
  }
  if (isPrerelease(version)) {
    return;
  }
  for (const line of versionLinesOf(version)) {
    const highest = before.get('line', line)?.version;
    if (highest === undefined || compareVersions(version, highest) > 0) {
      after.set('line', line, { version, commit, content });
    }
  }
}
