import type { CommitId } from '../commit';
import { compareOrder, describePosition, type Ancestry, type Order, type Position } from '../tags/ordering';
import type { Facts, LaneHead } from '../ledger/facts';
import type { Way } from '../ledger/way';
import { lanesOf, laneFacts, servedIn, laneHeadIn } from '../ledger/environment';
import { isBranchLane } from '../ledger/lane';

/** Where a release stands: its place in the order, and the branch that it was built of. */
export interface Origin extends Position {
  readonly commit: CommitId;
  readonly branch?: string | undefined;
}

/** What lets a release come into an environment, or keeps it from taking over, whatever is there. */
export interface Barriers {
  /** Why builds of its kind never take over; undefined where they may. */
  readonly notFollowed?: string | undefined;
  /** That it was withdrawn there, and nobody said that it is to come back. */
  readonly withdrawn?: string | undefined;
}

/** How one component comes in, and why. */
export interface ComponentArrival {
  readonly component: string;
  readonly way: Way;
  readonly reason: string;
  /** The lines and branches that it is the newest of from now on. */
  readonly lanes: readonly string[];
  /** What the environment serves of it from now on; undefined where that is nothing. */
  readonly serves: Position | undefined;
}

/** What deciding how a component comes in knows. */
export interface WayKnowledge {
  readonly facts: Facts;
  readonly ancestry: Ancestry;
  /** For components of which the ledger knows nothing: that a registry shows something newer of the release. */
  readonly elsewhere: string | undefined;
  /** Whether a moving tag follows the component nevertheless: that of its own line or branch. */
  readonly movesTag: boolean;
  /** A newer release with which the component retired there; undefined where it did not. */
  readonly retired: Position | undefined;
}

/** The commits in an environment that a release must be compared with. */
export function commitsToCompare(environment: string, origin: Origin, facts: Facts): CommitId[] {
  const heads = laneFacts(environment, origin).flatMap(({ key }) => facts.get('lane', key) ?? []);
  return [...heads, ...servedIn(facts, environment)].map(({ commit }) => commit);
}

/** A component that comes into an environment, and where its release stands. */
interface PositionedComponent {
  readonly component: string;
  readonly environment: string;
  readonly origin: Origin;
}

/** Decides how a component comes into an environment. */
export function decideWay(
  { component, environment, origin }: PositionedComponent,
  { notFollowed, withdrawn }: Barriers,
  { facts, ancestry, elsewhere: shown, movesTag, retired }: WayKnowledge,
): ComponentArrival {
  const [first, ...others] = lanesOf(origin).map((lane) => {
    const head = laneHeadIn(facts, environment, lane, component);
    return { lane, head, newest: head === undefined || comesAfter(orderInLane(lane, origin, head, ancestry)) };
  });
  const lanes = [first, ...others].flatMap((each) => (each?.newest === true ? [each.lane] : []));
  const served = servedIn(facts, environment).find((each) => each.component === component);
  const held = { component, way: 'held', serves: served } as const;
  if (withdrawn !== undefined) {
    return { ...held, reason: withdrawn, lanes: [] };
  }
  const there = served ?? retired;
  const elsewhere = there === undefined ? shown : undefined;
  const order = there === undefined ? 'newer' : compareOrder(origin, there, ancestry);
  const gone =
    served === undefined && retired !== undefined
      ? `${component} retired: ${environment} serves a newer release without it; `
      : '';
  const why = elsewhere ?? `${gone}${explainOrder(order, there, ancestry.gap)}`;
  if (elsewhere === undefined && comesAfter(order) && notFollowed === undefined) {
    return { component, way: 'takes-over', reason: why, lanes, serves: origin };
  }
  const reason = notFollowed ?? why;
  if (first === undefined) {
    // It has no line and no branch to be the newest of.
    const own = comesAfter(order) || order === 'unrelated';
    return { ...held, way: own ? 'beside' : 'held', reason, lanes: [] };
  }
  if (first.newest && (elsewhere === undefined || movesTag)) {
    return { ...held, way: 'beside', reason, lanes };
  }
  const { lane, head } = first;
  return {
    ...held,
    reason: head === undefined ? reason : explainOrder(orderInLane(lane, origin, head, ancestry), head, ancestry.gap),
    // Of its branch it may be the newest nevertheless.
    lanes: elsewhere === undefined ? lanes : [],
  };
}

function comesAfter(order: Order): boolean {
  return order === 'newer' || order === 'same';
}

/** A branch is in the order of its commits, whatever versions they have. */
function orderInLane(lane: string, { commit, version }: Origin, head: LaneHead, ancestry: Ancestry): Order {
  return isBranchLane(lane)
    ? compareOrder({ commit }, { commit: head.commit }, ancestry)
    : compareOrder({ commit, version }, head, ancestry);
}

function explainOrder(order: Order, other: Position | undefined, gap: string): string {
  const there = other === undefined ? undefined : describePosition(other);
  if (there === undefined) {
    return 'no release was served before';
  }
  switch (order) {
    case 'newer':
      return `newer than ${there}`;
    case 'same':
      return `it is ${there}`;
    case 'older':
      return `${there} is there, which is newer`;
    case 'unrelated':
      return `${there} is there, and neither commit contains the other; where the branch was rewritten, --after-rewrite --reason "…" lets this build follow`;
    case 'unknown':
      return `${there} is there, and which is newer is not known: ${gap}`;
  }
}
