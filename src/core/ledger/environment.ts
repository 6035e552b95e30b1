import { versionNumbers, type Version } from '../tags/version';
import type { RepositoryName } from '../oci/reference';
import { laneKey, type FactKey, type Facts, type LaneHead, type Release, type ServedComponent } from './facts';

/** What places a release on lanes: its version, and the branch that it was built of. */
interface Lanes {
  readonly version?: Version | undefined;
  readonly branch?: string | undefined;
}

/** The line of versions of a release and the branch that it was built of, as far as they are known. */
export function lanesOf({ version, branch }: Lanes): string[] {
  const { major, minor } = version === undefined ? { major: '', minor: '' } : versionNumbers(version);
  return [
    ...(version === undefined ? [] : [`line ${major}.${minor}`]),
    ...(branch === undefined ? [] : [`branch ${branch}`]),
  ];
}

/** The facts about the lines and branches of a release in an environment. */
export function laneFacts(environment: string, origin: Lanes): FactKey[] {
  return lanesOf(origin).map((lane) => ({ kind: 'lane', key: laneKey(environment, lane) }));
}

/** The newest of each component on a line of versions or a branch of an environment. */
export function laneHeadsIn(facts: Facts, environment: string, lane: string): readonly LaneHead[] {
  return facts.get('lane', laneKey(environment, lane)) ?? [];
}

/** The newest of a component on a line of versions or a branch of an environment. */
export function laneHeadIn(facts: Facts, environment: string, lane: string, component: string): LaneHead | undefined {
  return laneHeadsIn(facts, environment, lane).find((head) => head.component === component);
}

/** What an environment serves, component by component. */
export function servedIn(facts: Facts, environment: string): readonly ServedComponent[] {
  return facts.get('environment', environment)?.components ?? [];
}

/** Returns how a component of a release came into an environment; undefined where it never did. */
export function stayIn(
  { arrived }: Pick<Release, 'arrived'>,
  environment: string,
  component: string,
): Release['arrived'][number] | undefined {
  return arrived.find((stay) => stay.environment === environment && stay.component === component);
}

/** Returns where an environment has a component by now, of which an earlier entry says that it was in a repository. */
export function placeNow(
  facts: Facts,
  environment: string,
): (component: string, then: RepositoryName) => RepositoryName {
  const { places = [] } = facts.get('environment', environment) ?? {};
  return (component, then) => places.find((each) => each.component === component)?.repository ?? then;
}

/** Whether the line of a release was rolled back from it in an environment. */
export function wasLeft({ arrived }: Pick<Release, 'arrived'>, environment: string, component: string): boolean {
  return stayIn({ arrived }, environment, component)?.left !== undefined;
}

/** Whether a component of a release came into an environment, now or once: it took over, or came beside. */
export function cameInto({ arrived }: Pick<Release, 'arrived'>, environment: string, component: string): boolean {
  const stay = stayIn({ arrived }, environment, component);
  return stay !== undefined && stay.way !== 'held';
}
