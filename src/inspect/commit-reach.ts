import type { CommitId } from '../core/commit';
import { decideReach, firstRelease, type CommitReach, type Contains } from '../core/identify/reach';
import type { Release } from '../core/ledger/facts';
import type { UnmetGate } from '../core/release/gates/gate';
import { describePosition } from '../core/tags/ordering';
import { together } from '../core/release/knowledge';
import { answerFrom } from '../ledger/fact-reader';
import type { Ledger } from '../ledger/ledger';
import type { Session } from '../session/session';
import { commitTold, descendantsOf, picksOf, type LoggedCommit, type PickedCommit } from '../workspace/git';
import type { Config } from '../workspace/config';
import { releasesOf } from './containing';
import { readServing } from './lines';
import { readWaiting } from './status';

/** What is known of a commit: the releases that contain it, and the environments that serve it. */
export interface IdentifiedCommit {
  readonly commit: CommitId;
  /** What git tells of it; undefined where git here does not have it. */
  readonly told: LoggedCommit | undefined;
  /** The commits that repeat it elsewhere: a release that contains one counts as containing it. */
  readonly picks: readonly PickedCommit[];
  /** For each component, the first release that contains it; the components of the same release together. */
  readonly first: readonly { readonly release: Release; readonly components: readonly string[] }[];
  readonly reaches: readonly CommitReach[];
  /** For each environment that it is still to come into: the rules that say no to what waits, as far as ledger and clock decide. */
  readonly waiting: readonly { readonly environment: string; readonly unmet: readonly UnmetGate[] }[];
  /** Git here lacks commits: what is not found may be there. */
  readonly incomplete: boolean;
}

/** Finds out which releases contain a commit, and what environments serve of it. */
export async function identifyCommit(
  commit: CommitId,
  context: { readonly config: Config; readonly session: Session; readonly ledger: Ledger },
): Promise<IdentifiedCommit> {
  const { config, ledger } = context;
  const { folder, environments } = config;
  const { serving } = await readServing(
    environments.map(({ name }) => name),
    ledger,
  );
  const heads = [
    ...new Set(
      serving.flatMap(({ components, lines }) =>
        [...components, ...lines.map(({ head }) => head)].map((each) => each.commit),
      ),
    ),
  ];
  const own = await descendantsOf(folder, commit, heads);
  const without = heads.filter((head) => own.has(head) && !own.commits.has(head));
  const picks = own.has(commit) ? await picksOf(folder, commit, without) : [];
  const repeated = await Promise.all(picks.map((pick) => descendantsOf(folder, pick.commit, heads)));
  const all = new Set([own, ...repeated].flatMap(({ commits }) => [...commits]));
  const isUnsure = own.shallow || !own.has(commit);
  const contains: Contains = (other) => (all.has(other) ? true : isUnsure || !own.has(other) ? undefined : false);
  const releases = await releasesOf([...all], ledger);
  const asked = { contains, releases };
  const [found, told, waiting] = await Promise.all([
    answerFrom(ledger, (known) => together(serving.map((each) => decideReach(each, asked, known)))),
    commitTold(folder, commit),
    readWaiting(environments, context),
  ]);
  const reaches = found.flat();
  return {
    ...{ commit, told, picks, reaches },
    first: firstOf(releases, config),
    waiting: environments.flatMap(({ name: environment, after }) => {
      const found = waiting.get(environment);
      return found !== undefined && isIn(reaches, after) && !isIn(reaches, environment)
        ? [{ environment, unmet: found.of.gates.filter(({ of }) => servedAs(reaches, after).includes(of)) }]
        : [];
    }),
    incomplete: isUnsure || heads.some((head) => !own.has(head)),
  };
}

function isIn(reaches: readonly CommitReach[], environment: string | undefined): boolean {
  return reaches.some((each) => each.environment === environment && each.state === 'in');
}

/** The releases of an environment that contain the commit, as rules name them. */
function servedAs(reaches: readonly CommitReach[], environment: string | undefined): string[] {
  return reaches
    .filter((each) => each.environment === environment && each.state === 'in')
    .map(({ serves }) => describePosition(serves));
}

/** The first release for each component, the components of the same release together. */
function firstOf(releases: readonly Release[], { components }: Config): IdentifiedCommit['first'] {
  const found = new Map<Release, string[]>();
  for (const { name } of components) {
    const release = firstRelease(releases, name);
    if (release !== undefined) {
      found.set(release, [...(found.get(release) ?? []), name]);
    }
  }
  return [...found].map(([release, names]) => ({ release, components: names }));
}
