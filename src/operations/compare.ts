import pLimit from 'p-limit';
import { HodError } from '../core/errors';
import { kindOf } from '../core/oci/bundle';
import { compareImages, type ImageDifference } from '../core/oci/compare-images';
import { readContent, runnableImages, type ContentNode } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { formatRepository, parseRepository } from '../core/oci/reference';
import { servedIn } from '../core/ledger/environment';
import { allSettled } from '../delivery/carry';
import { findRelease } from '../delivery/sources/choice';
import type { Ledger } from '../ledger/ledger';
import type { CompareResult } from '../results/compare';
import { toPathDifference } from '../results/inside';
import { isHere, locate } from '../session/locate';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { withProductIfAny, type Session, type SessionOptions } from '../session/session';
import type { Config } from '../workspace/config';
import { commitsBetween, readGit } from '../workspace/git';
import { lookInto, readLayers } from './look-into';

/** What `compare` is told: environments, versions, commits, references or build outputs. */
export interface CompareOptions extends SessionOptions {
  from: string;
  to: string;
  /** Read every layer of what changed, and tell the paths that differ. */
  inside?: true | undefined;
}

/** An image on one side. */
interface ComparedImage {
  readonly image: string;
  readonly reference: string;
  readonly digest: Digest;
  readonly version: string | undefined;
  readonly commit: string | undefined;
  readonly read: () => Promise<ContentNode>;
}

interface Side {
  readonly kind: CompareResult['from']['kind'];
  readonly images: readonly ComparedImage[];
}

/** What differs between two environments, releases or images: commits, and image by image what is in them. */
export async function compare({ from, to, inside, ...options }: CompareOptions): Promise<CompareResult> {
  return withProductIfAny(options, async (config, session) => {
    const [one, other] = [await readSide(from, config, session), await readSide(to, config, session)];
    if ((one.kind === 'image') !== (other.kind === 'image')) {
      throw new HodError('options-conflict', {
        what: 'one image is not compared with a whole product',
        object: `${from} and ${to}`,
        why: `${one.kind === 'image' ? from : to} is one image, and ${one.kind === 'image' ? to : from} is all of a release`,
        next: 'name two environments, versions or commits, or two images',
      });
    }
    const [before, after] = [sideOf(from, one), sideOf(to, other)];
    const commits = await commitsOf(before.commit, after.commit, config);
    return {
      from: before,
      to: after,
      commits: 'gap' in commits ? null : commits,
      gap: 'gap' in commits ? commits.gap : null,
      images: await compareAll(one, other, inside === true),
    };
  });
}

/** What a text names: what is here goes first, then an environment, then a release, then a reference. */
async function readSide(text: string, config: Config | undefined, session: Session): Promise<Side> {
  if (config !== undefined && !isHere(text)) {
    const environment = config.environments.find(({ name }) => name === text);
    if (environment !== undefined || !/[/:@]/.test(text)) {
      return withLedger(config, session, 'read', async (ledger) => {
        await refuseEmpty(config, ledger);
        return environment === undefined
          ? releaseSide(text, config, ledger, session)
          : environmentSide(environment.name, ledger, session);
      });
    }
  }
  const node = await locate(session, text);
  const [first] = await runnableImages(node);
  const { digest } = node.manifest;
  const image = { image: '', reference: text, digest, version: first?.version, commit: first?.revision };
  return { kind: 'image', images: [{ ...image, read: () => Promise.resolve(node) }] };
}

async function environmentSide(name: string, ledger: Ledger, session: Session): Promise<Side> {
  const { facts } = await ledger.read([{ kind: 'environment', key: name }]);
  return { kind: 'environment', images: servedIn(facts, name).map((served) => placedImage(served, session)) };
}

async function releaseSide(
  text: string,
  { folder, environments }: Config,
  ledger: Ledger,
  session: Session,
): Promise<Side> {
  const release = await findRelease(text, folder, ledger);
  if (release === undefined) {
    throw new HodError('never-published', {
      what: 'this was never published',
      object: text,
      why: `it is neither an environment (${environments.map(({ name }) => name).join(', ')}) nor a release that the ledger knows`,
      next: 'name an environment, a version, a commit, a reference (registry/name:tag) or a build output',
    });
  }
  const { commit: of, version: as, images } = release;
  return {
    kind: 'release',
    images: images.map((placed) => placedImage({ ...placed, commit: of, version: as }, session)),
  };
}

function placedImage(
  placed: Parameters<typeof readContent>[1] & {
    image: string;
    repository: string;
    version?: string | undefined;
    commit: string;
  },
  session: Session,
): ComparedImage {
  const { image, repository, digest, version, commit } = placed;
  const client = session.client(parseRepository(repository));
  return {
    image,
    reference: `${formatRepository(client.repository)}@${digest}`,
    digest,
    version,
    commit,
    read: () => readContent(client, placed),
  };
}

function sideOf(name: string, { kind, images }: Side): CompareResult['from'] {
  const only = (of: (image: ComparedImage) => string | undefined): string | null => {
    const all = new Set(images.map(of));
    return all.size === 1 ? ([...all][0] ?? null) : null;
  };
  return { name, kind, version: only(({ version }) => version), commit: only(({ commit }) => commit) };
}

async function commitsOf(
  from: string | null,
  to: string | null,
  config: Config | undefined,
): Promise<NonNullable<CompareResult['commits']> | { gap: string }> {
  if (from === null || to === null) {
    return { gap: 'one of them is of several commits, or does not say which' };
  }
  const folder = config?.folder ?? process.cwd();
  const [one, other] = await Promise.all([readGit(folder, from), readGit(folder, to)]);
  if ('gap' in one) {
    return one;
  }
  if ('gap' in other) {
    return other;
  }
  const [added, left] = await Promise.all([
    commitsBetween(folder, one.commit.id, other.commit.id),
    commitsBetween(folder, other.commit.id, one.commit.id),
  ]);
  return 'gap' in added ? added : 'gap' in left ? left : { added: added.commits, left: left.commits };
}

type ImageComparison = CompareResult['images'][number];

const nothing: ImageComparison['platforms'] = { added: [], removed: [], changed: [] };

function compareAll(from: Side, to: Side, inside: boolean): Promise<ImageComparison[]> {
  const names = [...new Set([...from.images, ...to.images].map(({ image }) => image))];
  // Of what is looked into, one image is in memory at a time.
  const looking = pLimit(inside ? 1 : Infinity);
  return allSettled(
    names.map((image) =>
      looking(async () => {
        const [one, other] = [from, to].map(({ images }) => images.find((each) => each.image === image));
        const isSame = one?.digest === other?.digest;
        const state = one === undefined ? 'added' : other === undefined ? 'removed' : isSame ? 'same' : 'changed';
        const about = { image, state, from: toPlaced(one), to: toPlaced(other) } as const;
        if (one === undefined || other === undefined || isSame) {
          return { ...about, files: null, platforms: nothing };
        }
        const [before, after] = [await one.read(), await other.read()];
        return {
          ...about,
          files: inside ? await bundledFiles(before, after) : null,
          platforms: await platformsOf([one.reference, before], [other.reference, after], inside),
        };
      }),
    ),
  );
}

/** The files that differ between two bundles; null for anything else. */
async function bundledFiles(from: ContentNode, to: ContentNode): Promise<ImageComparison['files']> {
  const [one, other] = [from.manifest, to.manifest];
  if (one.kind !== 'image' || other.kind !== 'image' || [one, other].some((each) => kindOf(each) !== 'bundle')) {
    return null;
  }
  return toPathDifference(await readLayers(one, from.source, true), await readLayers(other, to.source, true));
}

async function platformsOf(
  [one, from]: readonly [reference: string, node: ContentNode],
  [other, to]: readonly [reference: string, node: ContentNode],
  inside: boolean,
): Promise<ImageComparison['platforms']> {
  const [before, after] = [await runnableImages(from), await runnableImages(to)];
  const { added, removed, changed } = compareImages(before, after);
  const all: ImageComparison['platforms']['changed'] = [];
  for (const each of changed) {
    const was = before.find(({ manifest }) => manifest.digest === each.from.digest);
    const is = after.find(({ manifest }) => manifest.digest === each.to.digest);
    const paths =
      inside && was !== undefined && is !== undefined
        ? toPathDifference(await lookInto(one, was, true), await lookInto(other, is, true))
        : null;
    all.push({ ...toPlatform(each), inside: paths });
  }
  return { added: [...added], removed: [...removed], changed: all };
}

function toPlaced(image: ComparedImage | undefined): CompareResult['images'][number]['from'] {
  if (image === undefined) {
    return null;
  }
  const { reference, digest, version, commit } = image;
  return { reference, digest, version: version ?? null, commit: commit ?? null };
}

function toPlatform({
  platform,
  from,
  to,
  layers: { added, removed, shared },
  says,
}: ImageDifference['changed'][number]): Omit<ImageComparison['platforms']['changed'][number], 'inside'> {
  const layers = (all: typeof added) => all.map(({ digest, size }) => ({ digest, size }));
  return {
    platform,
    from: { ...from },
    to: { ...to },
    layers: { added: layers(added), removed: layers(removed), shared },
    says: says.map(({ what, name, from: was, to: is }) => ({ what, name, from: was ?? null, to: is ?? null })),
  };
}
