import * as z from 'zod';
import { compareVersions, isPrerelease, linesOf, type Version } from '../../tags/version';
import type { Fact, Facts } from '../facts';
import { contentId } from '../release';
import { defineAction } from './action';
import { arrivalFields, factsOfArrival, foldArrival } from './arrival';

const schema = z.object({ kind: z.literal('published'), ...arrivalFields });
type Published = z.infer<typeof schema>;

/** A build became a release, in the first environment. */
export const published = defineAction<Published, typeof schema>('published', {
  schema,
  reads: factsOfArrival,
  fold(action, circumstances, before, after) {
    const { release, commit, version, branch, build, images } = action;
    const known = before.get('release', release);
    const fresh = { release, commit, version, branch, build, images, by: circumstances.actor, arrived: [] };
    foldArrival(action, circumstances, known ?? fresh, before, after);
    if (known !== undefined) {
      return;
    }
    const content = contentId(images);
    if (version !== undefined || before.get('commit', commit)?.version === undefined) {
      after.set('commit', commit, { release, version, content });
    }
    if (version !== undefined) {
      foldVersion({ version, release, commit, content }, before, after);
    }
  },
});

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
  for (const line of linesOf(version)) {
    const highest = before.get('line', line)?.version;
    if (highest === undefined || compareVersions(version, highest) > 0) {
      after.set('line', line, { version, commit, content });
    }
  }
}
