import { missingOf } from '../../core/build/component';
import type { CommitId } from '../../core/commit';
import { HodError } from '../../core/errors';
import { servedIn } from '../../core/ledger/environment';
import type { Included, PlacedComponent } from '../../core/ledger/release';
import type { ContentNode } from '../../core/oci/content';
import { formatRepository, parseRepository, type Reference } from '../../core/oci/reference';
import type { Ledger } from '../../ledger/ledger';
import { readReference } from '../../session/locate';
import { refuseEmpty, withLedger } from '../../session/open-ledger';
import type { Session } from '../../session/session';
import {
  namesRegistry,
  requirementOf,
  type Config,
  type EnvironmentConfig,
  type IncludedConfig,
} from '../../workspace/config';
import { carriedWith } from '../referrers/find';
import type { GatheredItem } from './gather';
import { outputFrom } from './outputs';

/** What reading included components works with. */
export interface InclusionContext {
  readonly config: Config;
  readonly environment: EnvironmentConfig;
  readonly session: Session;
  readonly ledger: Ledger;
}

/** Where the content of an included component is read, and where it came from. */
interface Origin {
  readonly reference: Reference;
  readonly included: Included;
}

/**
 * Reads the components that other products build. A commit that was released keeps the content that its release has, whatever the
 * origin names by now.
 *
 * @throws `included-missing` where the origin has none, or not for every platform; `included-elsewhere`, `image-missing`, `ledger-empty`
 */
export async function gatherIncluded(
  components: readonly IncludedConfig[],
  commit: CommitId,
  context: InclusionContext,
): Promise<GatheredItem[]> {
  const released = components.length === 0 ? [] : await releasedOf(commit, context.ledger);
  return Promise.all(
    components.map(async (component) => {
      const known = released.find(({ component: name }) => [component.name, ...component.was].includes(name));
      const { node, included } =
        known?.included === undefined
          ? await readOrigin(await findOrigin(component, context), context)
          : await readAgain(known, known.included, component, context);
      return itemOf(component, node, included, context);
    }),
  );
}

/** The components that the release of a commit has. */
async function releasedOf(commit: CommitId, ledger: Ledger): Promise<readonly PlacedComponent[]> {
  const { facts } = await ledger.read([{ kind: 'commit', key: commit }]);
  const id = facts.get('commit', commit)?.release;
  const release = id && (await ledger.read([{ kind: 'release', key: id }])).facts.get('release', id);
  return release?.components ?? [];
}

async function readOrigin({ reference, included }: Origin, { session }: InclusionContext) {
  return { node: await readReference(session, reference), included };
}

/** Reads content that a release has: where it was copied to, or, where that lost it, where it came from. */
async function readAgain(
  { digest }: PlacedComponent,
  included: Included,
  { name }: IncludedConfig,
  { config, environment, session }: InclusionContext,
) {
  const own = { repository: environment.repositoryOf(name), digest };
  try {
    return { node: await readReference(session, own), included };
  } catch (error) {
    const origin = parseRepository(included.repository);
    if (error instanceof HodError && error.fault === 'missing' && namesRegistry(config, origin.registry)) {
      return { node: await readReference(session, { repository: origin, digest }), included };
    }
    throw error;
  }
}

/**
 * Finds the content that an included component is made of: what hod.yaml names, or what the environment of its product serves.
 *
 * @throws `included-missing`, `included-elsewhere`, `ledger-empty`
 */
export async function findOrigin(
  { name, origin }: IncludedConfig,
  { config, session }: Pick<InclusionContext, 'config' | 'session'>,
): Promise<Origin> {
  if ('reference' in origin) {
    const { reference } = origin;
    const { repository, tag } = reference;
    return { reference, included: { repository: formatRepository(repository), tag } };
  }
  const { product, ledger, environment, component } = origin;
  const theirs = { ...config, product, ledger };
  const served = await withLedger(theirs, session, 'read', async (opened) => {
    await refuseEmpty(theirs, opened);
    const { facts } = await opened.read([{ kind: 'environment', key: environment }]);
    return servedIn(facts, environment);
  });
  const found = served.find((each) => each.component === component);
  if (found === undefined) {
    throw new HodError('included-missing', {
      what: 'an included component is not served',
      object: `${name}: ${component} of ${product}`,
      why:
        served.length === 0
          ? `${environment} of ${product} serves nothing`
          : `${environment} of ${product} serves ${served.map((each) => each.component).join(', ')}`,
      next: `correct \`includes:\` in hod.yaml, or let ${product} bring it into ${environment} first`,
    });
  }
  const { repository, digest, version, commit } = found;
  const place = parseRepository(repository);
  if (!namesRegistry(config, place.registry)) {
    throw new HodError('included-elsewhere', {
      what: 'an included component is in a registry that hod.yaml does not name',
      object: `${name}: ${repository}`,
      why: `the ledger of ${product} names ${place.registry}, and hod.yaml does not`,
      next: `if this is the right registry, add it to hod.yaml: \`registries: { "${place.registry}": {} }\``,
    });
  }
  return { reference: { repository: place, digest }, included: { repository, product, version, commit } };
}

async function itemOf(
  component: IncludedConfig,
  node: ContentNode,
  included: Included,
  { environment, session }: InclusionContext,
): Promise<GatheredItem> {
  const { name } = component;
  const { platforms } = await outputFrom(name, node);
  const missing = missingOf(requirementOf(component), [{ platforms }]);
  if (missing.length > 0) {
    throw new HodError('included-missing', {
      what: 'an included component lacks a platform',
      object: `${name}: ${missing.join(', ')}`,
      why: `${node.source.label}@${node.manifest.digest} has ${platforms.join(', ') || 'none'}`,
      next: 'include content that has it, or take the platform out of `includes:` in hod.yaml',
    });
  }
  return {
    component: name,
    node,
    platforms,
    target: session.client(environment.repositoryOf(name)),
    referrers: await carriedWith(node, environment.carrying),
    included,
    // Its annotations are about its own product.
    claims: [],
    staged: [],
  };
}
