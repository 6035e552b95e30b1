import pLimit from 'p-limit';
import { HodError } from '../core/errors';
import { kindOf } from '../core/oci/bundle';
import { compareImages, type ImageDifference } from '../core/oci/compare-images';
import { readContent, runnableImages, type ContentNode } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { comparePaths, type PathDifference } from '../core/oci/inside';
import { formatRepository, parseRepository } from '../core/oci/reference';
import { grouped } from '../core/grouped';
import { listedIn } from '../core/ledger/facts';
import { nameNow } from '../core/build/component';
import { placeNow, servedIn } from '../core/ledger/environment';
import type { Included } from '../core/ledger/release';
import { settleAll } from '../system/promises';
import { findRelease } from '../delivery/sources/choice';
import type { Ledger } from '../ledger/ledger';
import { isHere, locate } from '../session/locate';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import type { Session } from '../session/session';
import type { Config } from '../workspace/config';
import { commitNamed, commitsBetween, type LoggedCommit } from '../workspace/git';
import { identifyDigest, isDigestText } from './identify-digest';
import { readHashedTree } from './layers';

/** A component on one side. */
interface ComparedComponent {
  readonly component: string;
  /** The name that it had then, where it has another now. */
  readonly was: string | undefined;
  readonly reference: string;
  readonly digest: Digest;
  readonly included: Included | undefined;
  readonly version: string | undefined;
  readonly commit: string | undefined;
  readonly read: () => Promise<ContentNode>;
}

/** What one side is: an environment, a release of the ledger, or an image by itself. */
type SideKind = 'environment' | 'release' | 'image';

interface Side {
  readonly kind: SideKind;
  readonly components: readonly ComparedComponent[];
  /** All components of the product, of which a release may hold a part only. */
  readonly listed?: readonly string[];
}

/** A side as it was named, and what it is of; version and commit are undefined where it is of several. */
export interface ComparedSide {
  readonly name: string;
  readonly kind: SideKind;
  readonly version: string | undefined;
  readonly commit: string | undefined;
}

/** Commits that one side has and the other has not; `gap`: why git cannot tell. */
export type CommitDifference =
  { readonly added: readonly ComponentCommit[]; readonly left: readonly ComponentCommit[] } | { readonly gap: string };

/** A commit, and the components that one side has from before it and the other with it. */
export type ComponentCommit = LoggedCommit & { readonly components: readonly string[] };

/** A component where it stands. */
export type PlacedSide = Omit<ComparedComponent, 'component' | 'was' | 'read'>;

/** How an image for one platform differs; `inside`: the paths, undefined where they were not asked for. */
export type PlatformChange = ImageDifference['changed'][number] & { readonly inside: PathDifference | undefined };

/** How a component, or all components of a release, differ. */
export interface ComponentComparison {
  readonly component: string;
  /** The name that it had in the first, where it has another in the second. */
  readonly was: string | undefined;
  /** `left-out`: one side is a release of other components of the product only. */
  readonly state: 'same' | 'changed' | 'added' | 'removed' | 'left-out';
  readonly from: PlacedSide | undefined;
  readonly to: PlacedSide | undefined;
  /** The files of a bundle that differ; undefined for an image, and where they were not asked for. */
  readonly files: PathDifference | undefined;
  readonly platforms: {
    readonly added: readonly string[];
    readonly removed: readonly string[];
    readonly changed: readonly PlatformChange[];
  };
}

/** What differs between two sides. */
export interface Comparison {
  readonly from: ComparedSide;
  readonly to: ComparedSide;
  readonly commits: CommitDifference;
  readonly components: readonly ComponentComparison[];
}

/** Where sides are read: hod.yaml where there is one, and the session of the run. */
interface ComparisonContext {
  readonly config: Config | undefined;
  readonly session: Session;
}

/**
 * Compares two environments, releases or images: commits, and component by component what is in them.
 *
 * @throws {@link HodError} `options-conflict` where one is an image and the other a whole product.
 */
export async function compareSides(
  [from, to]: readonly [string, string],
  { inside }: { readonly inside: boolean },
  { config, session }: ComparisonContext,
): Promise<Comparison> {
  const [one, other] = [await readSide(from, config, session), await readSide(to, config, session)];
  if ((one.kind === 'image') !== (other.kind === 'image')) {
    throw new HodError('options-conflict', {
      what: 'one image is not compared with a whole product',
      object: `${from} and ${to}`,
      why: `${one.kind === 'image' ? from : to} is one image, and ${one.kind === 'image' ? to : from} is all of a release`,
      next: 'name two environments, versions or commits, or two images',
    });
  }
  const commits = await commitsOf(one, other, config?.folder ?? process.cwd());
  const components = await compareAll(one, other, inside);
  return { from: sideOf(from, one), to: sideOf(to, other), commits, components };
}

/** Reads what a text names. A file or folder here comes first, then an environment, a release, a reference. */
async function readSide(text: string, config: Config | undefined, session: Session): Promise<Side> {
  if (config !== undefined && !isHere(text)) {
    const environment = config.environments.find(({ name }) => name === text);
    if (environment !== undefined || isDigestText(text) || !/[/:@]/.test(text)) {
      return withLedger(config, session, 'read', async (ledger) => {
        await refuseEmpty(config, ledger);
        return environment === undefined
          ? releaseSide(text, config, ledger, session)
          : environmentSide(environment.name, config, ledger, session);
      });
    }
  }
  return imageSide(text, await locate(session, text));
}

async function imageSide(reference: string, node: ContentNode): Promise<Side> {
  const [first] = await runnableImages(node);
  const { digest } = node.manifest;
  const component = {
    component: '',
    was: undefined,
    reference,
    digest,
    included: undefined,
    version: first?.version,
    commit: first?.revision,
  };
  return { kind: 'image', components: [{ ...component, read: () => Promise.resolve(node) }] };
}

async function environmentSide(name: string, config: Config, ledger: Ledger, session: Session): Promise<Side> {
  const { facts } = await ledger.read([{ kind: 'environment', key: name }]);
  return {
    kind: 'environment',
    components: servedIn(facts, name).map((served) => placedComponent(served, config, session)),
  };
}

async function releaseSide(text: string, config: Config, ledger: Ledger, session: Session): Promise<Side> {
  const { folder, environments } = config;
  const [first] = environments;
  const release = await findRelease(text, folder, ledger);
  const reference = release === undefined ? await referenceOf(text, config, ledger) : undefined;
  if (reference !== undefined) {
    return imageSide(reference, await locate(session, reference));
  }
  if (release === undefined) {
    throw new HodError('never-published', {
      what: 'this was never published',
      object: text,
      why: `it is neither an environment (${environments.map(({ name }) => name).join(', ')}) nor a release that the ledger knows`,
      next: 'name an environment, a version, a commit, a digest, a reference (registry/name:tag) or a build output',
    });
  }
  const { commit: of, version: as, components } = release;
  const { facts } = await ledger.read([{ kind: 'environment', key: first.name }]);
  const repositoryOf = placeNow(facts, first.name);
  return {
    kind: 'release',
    listed: listedIn(release).map((component) => nameNow(config.components, component)),
    components: components.map((placed) => {
      const repository = repositoryOf(placed.component, placed.repository);
      return placedComponent({ ...placed, repository, commit: of, version: as }, config, session);
    }),
  };
}

/** Where the component or image stands that a digest is of; undefined where it is none that the ledger knows. */
async function referenceOf(
  text: string,
  { environments: [first] }: Config,
  ledger: Ledger,
): Promise<string | undefined> {
  const found = isDigestText(text) ? await identifyDigest(text, ledger) : undefined;
  if (found?.kind !== 'known' || (found.identity.is !== 'component' && found.identity.is !== 'image')) {
    return undefined;
  }
  const { digest, components } = found.identity;
  const [placed] = components.flatMap(({ component, releases }) =>
    (releases[0]?.components ?? []).filter((each) => each.component === component),
  );
  const { facts } = await ledger.read([{ kind: 'environment', key: first.name }]);
  return placed && `${placeNow(facts, first.name)(placed.component, placed.repository)}@${digest}`;
}

function placedComponent(
  placed: Parameters<typeof readContent>[1] & {
    component: string;
    repository: string;
    included?: Included | undefined;
    version?: string | undefined;
    commit: string;
  },
  { components }: Config,
  session: Session,
): ComparedComponent {
  const { component, repository, digest, included, version, commit } = placed;
  const client = session.client(parseRepository(repository));
  const now = nameNow(components, component);
  return {
    component: now,
    was: now === component ? undefined : component,
    reference: `${formatRepository(client.repository)}@${digest}`,
    digest,
    included,
    version,
    commit,
    read: () => readContent(client, placed),
  };
}

function sideOf(name: string, { kind, components }: Side): ComparedSide {
  const only = (of: (component: ComparedComponent) => string | undefined): string | undefined => {
    const all = new Set(components.map(of));
    return all.size === 1 ? [...all][0] : undefined;
  };
  return { name, kind, version: only(({ version }) => version), commit: only(({ commit }) => commit) };
}

/** Commits that one side has and the other has not, of all components that both have. */
async function commitsOf(from: Side, to: Side, folder: string): Promise<CommitDifference> {
  const pairs = grouped(
    from.components.flatMap(({ component, commit: one }) => {
      const other = to.components.find((each) => each.component === component);
      return other === undefined ? [] : [{ component, one, other: other.commit }];
    }),
    ({ one, other }) => [one, other],
  );
  if (pairs.length === 0) {
    return { gap: 'they have no component in common' };
  }
  // Each asks git several times.
  const asking = pLimit(4);
  const differences = await settleAll(
    pairs.map((pair) => {
      const [{ one, other }] = pair;
      const names = pair.map(({ component }) => component);
      return asking(() => commitsOfPair(one, other, names, folder));
    }),
  );
  const gap = differences.find((each) => 'gap' in each);
  return (
    gap ?? {
      added: union(differences.flatMap((each) => ('gap' in each ? [] : each.added))),
      left: union(differences.flatMap((each) => ('gap' in each ? [] : each.left))),
    }
  );
}

async function commitsOfPair(
  from: string | undefined,
  to: string | undefined,
  components: readonly string[],
  folder: string,
): Promise<CommitDifference> {
  if (from === undefined || to === undefined) {
    return { gap: 'one side contains components built from different commits, or without a commit' };
  }
  const [one, other] = await Promise.all([commitNamed(folder, from), commitNamed(folder, to)]);
  if ('gap' in one) {
    return one;
  }
  if ('gap' in other) {
    return other;
  }
  const [added, left] = await Promise.all([
    commitsBetween(folder, one.id, other.id),
    commitsBetween(folder, other.id, one.id),
  ]);
  if ('gap' in added) {
    return added;
  }
  if ('gap' in left) {
    return left;
  }
  const ofThem = (commits: readonly LoggedCommit[]) => commits.map((commit) => ({ ...commit, components }));
  return { added: ofThem(added.commits), left: ofThem(left.commits) };
}

/** Each commit once, with all components that it concerns; the newest first, those of one list in its order. */
function union(commits: readonly ComponentCommit[]): ComponentCommit[] {
  const all = grouped(commits, ({ commit }) => commit).map((group) => ({
    ...group[0],
    components: group.flatMap(({ components }) => components),
  }));
  const isOneList = all.every(({ components }) => components.length === all[0]?.components.length);
  return isOneList ? all : all.sort((a, b) => Date.parse(b.at) - Date.parse(a.at));
}

function stateOf(
  component: string,
  [one, other]: readonly (ComparedComponent | undefined)[],
  [from, to]: readonly [Side, Side],
): ComponentComparison['state'] {
  if (one !== undefined && other !== undefined) {
    return one.digest === other.digest ? 'same' : 'changed';
  }
  const lacking = one === undefined ? from : to;
  return lacking.listed?.includes(component) === true ? 'left-out' : one === undefined ? 'added' : 'removed';
}

const nothing: ComponentComparison['platforms'] = { added: [], removed: [], changed: [] };

function compareAll(from: Side, to: Side, inside: boolean): Promise<ComponentComparison[]> {
  const names = [...new Set([...from.components, ...to.components].map(({ component }) => component))];
  // Of what is looked into, one image is in memory at a time.
  const looking = pLimit(inside ? 1 : Infinity);
  return settleAll(
    names.map((component) =>
      looking(async () => {
        const [one, other] = [from, to].map(({ components }) =>
          components.find((each) => each.component === component),
        );
        const state = stateOf(component, [one, other], [from, to]);
        const was = one?.was === other?.was ? undefined : one?.was;
        const about = { component, was, state, from: one, to: other } as const;
        if (one === undefined || other === undefined || state === 'same') {
          return { ...about, files: undefined, platforms: nothing };
        }
        const [before, after] = [await one.read(), await other.read()];
        return {
          ...about,
          files: inside ? await bundledFiles(before, after) : undefined,
          platforms: await platformsOf(before, after, inside),
        };
      }),
    ),
  );
}

/** The files that differ between two bundles; undefined for anything else. */
async function bundledFiles(from: ContentNode, to: ContentNode): Promise<PathDifference | undefined> {
  const [one, other] = [from.manifest, to.manifest];
  if (one.kind !== 'image' || other.kind !== 'image' || [one, other].some((each) => kindOf(each) !== 'bundle')) {
    return undefined;
  }
  return comparePaths(await readHashedTree(one, from), await readHashedTree(other, to));
}

async function platformsOf(
  from: ContentNode,
  to: ContentNode,
  inside: boolean,
): Promise<ComponentComparison['platforms']> {
  const [before, after] = [await runnableImages(from), await runnableImages(to)];
  const { added, removed, changed } = compareImages(before, after);
  const all: PlatformChange[] = [];
  for (const each of changed) {
    const was = before.find(({ manifest }) => manifest.digest === each.from.digest);
    const is = after.find(({ manifest }) => manifest.digest === each.to.digest);
    const paths =
      inside && was !== undefined && is !== undefined
        ? comparePaths(await readHashedTree(was.manifest, was.node), await readHashedTree(is.manifest, is.node))
        : undefined;
    all.push({ ...each, inside: paths });
  }
  return { added, removed, changed: all };
}
