import type { Digest } from '../oci/digest';
import type { PlatformImage } from '../oci/content';
import { lanesOf } from '../ledger/environment';
import { laneKey, tagKey, type LaneHead, type ServedComponent, type TagPlace } from '../ledger/facts';
import type { Version } from '../tags/version';
import { factNeed, type Decision, type Knowledge } from './knowledge';

/** Returns what a tag leads to where it is to go and the registry removes no tags; undefined where there is nothing. */
export type Instead = (of: TagPlace) => Digest | undefined;

/** What an environment has: what it serves, and the newest of a component on each line. */
interface Standing {
  readonly serves: readonly Pick<ServedComponent, 'component' | 'digest' | 'images'>[];
  readonly headOf: (lane: string, component: string) => LaneHead | undefined;
}

/**
 * Decides what tags of withdrawn releases lead to where they cannot be removed: the newest good release of the line that
 * the tag was of, else what the environment serves. So no tag is left on what was withdrawn.
 *
 * @param places The tags; the facts of them are known.
 */
export function decideInstead(
  environment: string,
  places: readonly TagPlace[],
  { serves, headOf }: Standing,
  known: Knowledge,
): Decision<Instead> {
  const lineOf = ({ repository, tag }: TagPlace): string | undefined =>
    lanesOf({ version: known.facts.get('tag', tagKey(repository, tag))?.version })[0];
  const lines = places.flatMap((place) => lineOf(place) ?? []);
  const unknown = known.missing(lines.map((lane) => factNeed('lane', laneKey(environment, lane))));
  if (unknown !== undefined) {
    return unknown;
  }
  const newestOf = (place: TagPlace): Version | undefined => {
    const lane = lineOf(place);
    return lane === undefined ? undefined : headOf(lane, place.component)?.version;
  };
  const versions = places.flatMap((place) => newestOf(place) ?? []);
  const { facts } = known;
  const missing =
    known.missing(versions.map((version) => factNeed('version', version))) ??
    known.missing(
      versions
        .flatMap((version) => facts.get('version', version) ?? [])
        .map((each) => factNeed('release', each.release)),
    );
  if (missing !== undefined) {
    return missing;
  }
  const digestOf = (version: Version, component: string): Digest | undefined => {
    const release = facts.get('version', version)?.release;
    const components = release === undefined ? [] : (facts.get('release', release)?.components ?? []);
    return components.find((each) => each.component === component)?.digest;
  };
  return {
    kind: 'decided',
    value: (place) => {
      const served = serves.find(({ component }) => component === place.component);
      const platform = facts.get('tag', tagKey(place.repository, place.tag))?.platform;
      if (platform !== undefined) {
        const lane = lineOf(place);
        const head = lane === undefined ? undefined : headOf(lane, place.component);
        return imageFor(platform, head) ?? imageFor(platform, served);
      }
      const version = newestOf(place);
      const newest = version === undefined ? undefined : digestOf(version, place.component);
      return newest ?? served?.digest;
    },
  };
}

function imageFor(
  platform: string,
  of: { readonly images?: readonly PlatformImage[] | undefined } | undefined,
): Digest | undefined {
  return of?.images?.find((image) => image.platform === platform)?.digest;
}
