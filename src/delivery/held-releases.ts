import { HodError, type Problem } from '../core/errors';
import { cameInto, servedIn } from '../core/ledger/environment';
import type { FactKey, Facts, Release } from '../core/ledger/facts';
import type { PlacedComponent, ReleaseId } from '../core/ledger/release';
import { readContent, type ContentNode } from '../core/oci/content';
import { describePosition } from '../core/tags/ordering';
import type { Ledger } from '../ledger/ledger';
import type { Session } from '../session/session';
import { settleAll } from '../system/promises';
import type { Config, EnvironmentConfig } from '../workspace/config';
import { findRelease } from './sources/choice';

/** What releases are found with. */
export interface ReleaseContext {
  readonly config: Config;
  readonly session: Session;
  readonly ledger: Ledger;
}

/** A release, and those of its components that are meant, where an environment has them. */
export interface HeldRelease {
  readonly release: Release;
  readonly environment: EnvironmentConfig;
  readonly components: readonly PlacedComponent[];
}

/**
 * Finds what is named: the releases that an environment serves, or the one of a version or a commit, in the last environment that
 * has all of it.
 *
 * @throws {@link HodError} `environment-empty`; as {@link heldRelease}
 */
export async function heldReleases(what: string, context: ReleaseContext): Promise<readonly HeldRelease[]> {
  const { config, ledger } = context;
  const environment = config.environments.find(({ name }) => name === what);
  if (environment !== undefined) {
    return servedReleases(environment, ledger);
  }
  const why = `it is no environment of ${config.file}, and the ledger has no release of it`;
  const next = 'name an environment, a version or a commit (`hod status` lists them), or a reference';
  return [await heldRelease(what, { why, next }, context)];
}

async function servedReleases(environment: EnvironmentConfig, ledger: Ledger): Promise<HeldRelease[]> {
  const { facts } = await ledger.read([{ kind: 'environment', key: environment.name }]);
  const served = servedIn(facts, environment.name);
  const releases = await readReleases([...new Set(served.map(({ release }) => release))], ledger);
  if (releases.length === 0) {
    throw new HodError('environment-empty', {
      what: 'nothing is served there',
      object: environment.name,
      why: `${environment.name} serves nothing yet`,
      next: 'name a version that was published, or another environment',
    });
  }
  return releases.map((release) => ({
    release,
    environment,
    components: served.filter((each) => each.release === release.release),
  }));
}

/**
 * Finds the release that a version or a commit names, in the last environment that has all of it.
 *
 * @param advice What the error says where there is none.
 * @throws {@link HodError} `never-published`; `components-not-there` where no environment of hod.yaml has all of it.
 */
export async function heldRelease(
  named: string,
  advice: Pick<Problem, 'why' | 'next'>,
  { config, ledger }: ReleaseContext,
): Promise<HeldRelease> {
  const release = await findRelease(named, config.folder, ledger);
  if (release === undefined) {
    throw new HodError('never-published', { what: 'this was never published', object: named, ...advice });
  }
  const environment = config.environments.findLast(({ name }) =>
    release.components.every(({ component }) => cameInto(release, name, component)),
  );
  if (environment === undefined) {
    throw new HodError('components-not-there', {
      what: 'no environment has all of this release',
      object: describePosition(release),
      why: `it came into ${[...new Set(release.arrived.map((stay) => stay.environment))].join(', ') || 'none'}, and was held there, or came in part`,
      next: 'name an environment instead: what it serves',
    });
  }
  return { release, environment, components: release.components };
}

async function readReleases(ids: readonly ReleaseId[], ledger: Ledger): Promise<Release[]> {
  const { facts }: { facts: Facts } = await ledger.read(ids.map((key): FactKey => ({ kind: 'release', key })));
  return ids.flatMap((id) => facts.get('release', id) ?? []);
}

/** Reads the manifests of a component where an environment has it. */
export function heldContent(
  { component, digest, mediaType, size }: PlacedComponent,
  environment: EnvironmentConfig,
  session: Session,
): Promise<ContentNode> {
  return readContent(session.client(environment.repositoryOf(component)), { digest, mediaType, size });
}

/** Reads the manifests of all components of releases, in their order. */
export function contentsOf(
  held: readonly HeldRelease[],
  { session }: ReleaseContext,
): Promise<{ readonly component: string; readonly node: ContentNode }[]> {
  return settleAll(
    held.flatMap(({ environment, components }) =>
      components.map(async (placed) => {
        return { component: placed.component, node: await heldContent(placed, environment, session) };
      }),
    ),
  );
}
