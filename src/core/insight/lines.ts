import { laneHeadsIn, servedIn } from '../ledger/environment';
import { isBranchLane, laneName } from '../ledger/lane';
import { laneKey, tagKey, type FactKey, type Facts, type LaneHead } from '../ledger/facts';

/** The newest of a component on a line of versions or a followed branch, to which a moving tag leads, beside what is served. */
export interface ServedLine {
  /** The line, such as `2.3`, or the branch. */
  readonly line: string;
  readonly head: LaneHead;
}

/** The facts about the lanes of an environment that moving tags have followed. `facts`: the environment is known. */
export function lanesToRead(environment: string, facts: Facts): FactKey[] {
  const { lanes = [] } = facts.get('environment', environment) ?? {};
  return lanes.map((lane) => ({ kind: 'lane', key: laneKey(environment, lane) }));
}

/** The facts about the tags of what may be served beside. `facts`: the environment and its lanes are known. */
export function laneTagsToRead(environment: string, facts: Facts): FactKey[] {
  return besideIn(environment, facts).flatMap(({ head: { repository, tags } }) =>
    tags.map((tag): FactKey => ({ kind: 'tag', key: tagKey(repository, tag) })),
  );
}

/**
 * Finds what an environment serves on lines and followed branches, beside what it serves by its own tags. A release that is the
 * newest of a line and of a branch is named by the line.
 *
 * @param tags The tags of what may be served beside.
 */
export function linesIn(environment: string, facts: Facts, tags: Facts): ServedLine[] {
  const found = besideIn(environment, facts).filter(({ head: { repository, digest, release, tags: own } }) =>
    own.some((tag) => {
      const known = tags.get('tag', tagKey(repository, tag));
      return known?.kind === 'moving' && known.gone !== true && known.digest === digest && known.release === release;
    }),
  );
  const once = new Map<string, ServedLine>();
  for (const each of found) {
    const key = `${each.head.component} ${each.head.release}`;
    once.set(key, once.get(key) ?? each);
  }
  return [...once.values()];
}

/** The newest of each lane, where that is not what the environment serves: lines of versions first, the highest of them first. */
function besideIn(environment: string, facts: Facts): ServedLine[] {
  const served = servedIn(facts, environment);
  const { lanes = [] } = facts.get('environment', environment) ?? {};
  const isServed = ({ component, release }: LaneHead): boolean =>
    served.some((each) => each.component === component && each.release === release);
  // A lane that began after the lanes were named is read the next time.
  const read = lanes.filter((lane) => facts.has({ kind: 'lane', key: laneKey(environment, lane) }));
  return read.sort(byLine).flatMap((lane) =>
    laneHeadsIn(facts, environment, lane)
      .filter((head) => !isServed(head))
      .map((head) => ({ line: laneName(lane), head })),
  );
}

function byLine(a: string, b: string): number {
  const [one, other] = [a, b].map(isBranchLane);
  if (one !== other) {
    return one === true ? 1 : -1;
  }
  const [ours = 0, theirs = 0] = [a, b].map((lane) => (one === true ? 0 : lineNumber(laneName(lane))));
  return theirs - ours || (a < b ? 1 : -1);
}

/** A number for a line such as `2.3`, higher for the later of two. */
function lineNumber(line: string): number {
  const [major = 0, minor = 0] = line.split('.').map(Number);
  return major * 1e6 + minor;
}
