import { grouped } from '../../grouped';
import type { RepositoryName } from '../../oci/reference';
import { describePosition } from '../../tags/ordering';
import { repositoryPattern } from '../../tags/repository-pattern';
import { cameInto, servedIn, stayIn } from '../../ledger/environment';
import type { Despite } from '../despite';
import type { Facts, Release, ServedComponent } from '../../ledger/facts';
import type { Gate } from './gate';

/** How releases come into an environment, by what hod.yaml says now. */
export interface WayIn {
  readonly environment: string;
  /** The environments that they pass through before, the nearest first; none where builds are published into it. */
  readonly before: readonly string[];
  /** The repository of a component there; undefined for one that does not matter here. */
  readonly repositoryOf: (component: string) => RepositoryName | undefined;
}

/**
 * Releases come into an environment as they did so far: from the same environment, into the same repositories. A checkout
 * with another hod.yaml does not change that, but on purpose and on record.
 */
export function knownWayIn(
  wayIn: Omit<WayIn, 'before'> & { readonly from: string | null },
  facts: Facts,
  { newWayIn }: Despite,
): Gate {
  const gate = 'way-in';
  const { environment, from } = wayIn;
  const known = facts.get('environment', environment);
  const moved = inFormerPlaces(wayIn, facts);
  const other = known?.from !== undefined && known.from !== from;
  if (!other && moved.length === 0) {
    return { gate, outcome: 'met', detail: describeWay(environment, from) };
  }
  const detail = [
    ...(other
      ? [`by the ledger ${describeWay(environment, known.from)}; by this hod.yaml ${describeWay(environment, from)}`]
      : []),
    ...movesOf(moved, wayIn),
  ];
  if (newWayIn) {
    return { gate, outcome: 'met', detail: `${detail.join('; ')}: accepted on purpose` };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'other-way-in',
    what: `releases come into ${environment} in another way`,
    object: environment,
    detail,
    remedy: `use the hod.yaml of the branch that you release from; ${moved.length === 0 ? 'if this change is meant, add --new-way-in --reason "…"' : moveRemedy(environment, from)}`,
  };
}

/** Says where components are, and were; those whose repositories differ by their names alone together. */
function movesOf(moved: readonly ServedComponent[], { repositoryOf }: Pick<WayIn, 'repositoryOf'>): string[] {
  const patterns = moved.map(({ component, repository }) => ({
    component,
    was: repositoryPattern(repository, component),
    is: repositoryPattern(repositoryOf(component) ?? '', component),
  }));
  return grouped(patterns, ({ was, is }) => [was, is]).map((group) => {
    const [{ was, is }] = group;
    const names = group.map(({ component }) => component).join(', ');
    return `by the ledger ${names} ${group.length === 1 ? 'is' : 'are'} in ${was}; by this hod.yaml in ${is}`;
  });
}

/** What an environment serves in other repositories than hod.yaml has it in. */
export function inFormerPlaces(
  { environment, repositoryOf }: Pick<WayIn, 'environment' | 'repositoryOf'>,
  facts: Facts,
): ServedComponent[] {
  return servedIn(facts, environment).filter(
    ({ component, repository }) => ![undefined, repository].includes(repositoryOf(component)),
  );
}

/** How to move an environment to other repositories. */
export function moveRemedy(environment: string, from: string | null): string {
  const command = from === null ? 'hod publish' : `hod promote ${environment}`;
  return `if ${environment} moved, \`${command} --mend --new-way-in --reason "…"\` brings along what it serves, with a login that may write to both places`;
}

function describeWay(environment: string, from: string | null | undefined): string {
  return from === null || from === undefined
    ? `builds are published into ${environment}`
    : `${environment} takes releases from ${from}`;
}

/**
 * Whether what an environment serves came in by the way that hod.yaml says, and stands where hod.yaml says. Nothing is
 * pointed to, rolled back to or advised that did not. What came from an environment farther back came before another was put
 * between.
 */
export function wasAdmitted({ component, repository }: ServedComponent, release: Release, wayIn: WayIn): Gate {
  const gate = 'admitted';
  const { environment, before } = wayIn;
  const object = `${component} ${describePosition(release)} in ${environment}`;
  const from = before[0] ?? null;
  const place = wayIn.repositoryOf(component);
  if (place !== undefined && repository !== place) {
    return {
      gate,
      outcome: 'unmet',
      code: 'repository-changed',
      what: `${environment} serves this in another repository`,
      object,
      detail: `the ledger says ${repository}, and hod.yaml ${place}`,
      remedy: `use the hod.yaml that it came in with (--config); ${moveRemedy(environment, from)}`,
    };
  }
  const stay = stayIn(release, environment, component);
  const passed =
    from === null ||
    stay?.adopted === true ||
    cameInto(release, from, component) ||
    (typeof stay?.from === 'string' && before.includes(stay.from) && cameInto(release, stay.from, component));
  return passed
    ? { gate, outcome: 'met', detail: describeWay(environment, from) }
    : {
        gate,
        outcome: 'unmet',
        code: 'not-admitted',
        what: `this release did not come into ${environment} through ${from}`,
        object,
        detail: `by the ledger ${from} never served it; somebody brought it in with another hod.yaml`,
        remedy: `find out who did (\`hod timeline --env ${environment}\`), and roll ${environment} back to a release that came through ${from}`,
      };
}
