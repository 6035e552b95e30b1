import { HodError } from '../../core/errors';
import {
  childrenThatRun,
  commonTo,
  nodesOf,
  readContent,
  type ContentNode,
  type ContentSource,
} from '../../core/oci/content';
import type { Descriptor } from '../../core/oci/descriptor';
import type { Digest } from '../../core/oci/digest';
import { manifestKind } from '../../core/oci/media-types';
import { isCarried, typeOf, type Carrying, type ListedReferrer } from '../../core/oci/referrers';
import { isOwnRecord } from '../../core/ledger/rollback-record';
import type { Tag } from '../../core/oci/tag';

/** A manifest that refers to another, where it is read: a signature, a bill of materials, a test report. */
export interface Referrer {
  readonly subject: Digest;
  readonly digest: Digest;
  readonly type: string;
  /** Reads it, and all below it. Throws `missing` where it is listed, and not there. */
  readonly read: () => Promise<ContentNode>;
  /** The tag that it stands under beside its subject; undefined where it names it. */
  readonly tag?: Tag | undefined;
}

/**
 * Anyone who can push to the repository can add a referrer; each costs requests.
 * @limit referrers of one component, of the types that are carried | referrers | `too-many-manifests`
 */
const most = 10_000;

/**
 * Finds the referrers of a component, of the manifests in it, and of its referrers. Records of Hod are left out: each release
 * and each environment has its own.
 *
 * @param matters Which types: of others there may be any number.
 * @throws `too-many-manifests`
 */
export async function findReferrers(
  root: ContentNode,
  matters: (type: string) => boolean = () => true,
): Promise<Referrer[]> {
  const found = new Map<string, Referrer>();
  const asked = new Set<Digest>();
  let level: Place[] = nodesOf(root).map(placeOf);
  while (level.length > 0) {
    const fresh = level.filter(({ digest }) => !asked.has(digest));
    fresh.forEach(({ digest }) => asked.add(digest));
    const listed = (await Promise.all(fresh.map((place) => referrersOf(place, matters)))).flat();
    const coming = listed.filter(({ referrer }) => !found.has(keyOf(referrer)));
    coming.forEach(({ referrer }) => found.set(keyOf(referrer), referrer));
    if (found.size > most) {
      throw tooMany(`${root.source.label}@${root.manifest.digest}`);
    }
    level = (await Promise.all(coming.map(placesIn))).flat();
  }
  return [...found.values()];
}

function tooMany(object: string): HodError {
  return new HodError('too-many-manifests', {
    what: 'there are too many referrers',
    object,
    why: `Hod carries up to ${most} signatures, attestations and the like`,
    next: 'say which types are carried: `referrers: { carry: [TYPE] }` of the environment',
  });
}

/** A repository that is asked for the referrers of each manifest while the manifest is read; asked once for each. */
export function listingAhead(
  reader: Required<Pick<ContentSource, 'repository' | 'referrersOf'>> & ContentSource,
): ContentSource {
  const listed = new Map<Digest, Promise<readonly ListedReferrer[]>>();
  const referrersOf = (digest: Digest): Promise<readonly ListedReferrer[]> => {
    const listing = listed.get(digest) ?? reader.referrersOf(digest);
    listed.set(digest, listing);
    return listing;
  };
  return {
    label: reader.label,
    repository: reader.repository,
    readManifest: (descriptor) => {
      // The caller that reads the list gets the failure.
      referrersOf(descriptor.digest).catch(() => undefined);
      return reader.readManifest(descriptor);
    },
    openBlob: (descriptor, from) => reader.openBlob(descriptor, from),
    referrersOf,
  };
}

/** Chooses the referrers that are carried into an environment: of the types that are, and never without their subject. */
export function carriedOf(root: ContentNode, all: readonly Referrer[], carrying: Carrying): Referrer[] {
  const going = new Set(nodesOf(root).map(({ manifest }) => manifest.digest));
  const carried: Referrer[] = [];
  // They stand in the order in which they were found: a subject before its referrers.
  for (const each of all) {
    if (going.has(each.subject) && isCarried(each.type, carrying)) {
      carried.push(each);
      going.add(each.digest);
    }
  }
  return carried;
}

/** Reads the referrers of a component that are carried into an environment. Throws as {@link findReferrers}. */
export async function carriedWith(root: ContentNode, carrying: Carrying): Promise<Referrer[]> {
  return carrying === 'none'
    ? []
    : carriedOf(root, await findReferrers(root, (type) => isCarried(type, carrying)), carrying);
}

/** Returns the types of referrers that a component has as a whole, or that each of its images has. */
export function referrerTypes(root: ContentNode, all: readonly Referrer[]): string[] {
  const typesOn = (node: ContentNode): string[] => {
    const own = all.filter(({ subject }) => subject === node.manifest.digest).map(({ type }) => type);
    const images = childrenThatRun(node).filter(({ manifest }) => manifest.artifactType === undefined);
    return [...own, ...commonTo(images.map(typesOn))];
  };
  return [...new Set(typesOn(root))];
}

function keyOf({ subject, digest, tag }: Referrer): string {
  return `${subject} ${digest} ${tag ?? ''}`;
}

/** A manifest that may have referrers, and where it is. */
interface Place {
  readonly digest: Digest;
  readonly source: ContentSource;
}

/** Something that a place lists, and the place. */
interface Listed {
  readonly referrer: Referrer;
  readonly descriptor: Descriptor;
  readonly source: ContentSource;
}

function placeOf({ manifest: { digest }, source }: ContentNode): Place {
  return { digest, source };
}

/** The manifests of a referrer: itself, and those below it where it is an index. */
async function placesIn({ referrer, descriptor, source }: Listed): Promise<Place[]> {
  if (manifestKind(descriptor.mediaType) !== 'index') {
    return [{ digest: descriptor.digest, source }];
  }
  const node = await readUnlessGone(referrer);
  return node === undefined ? [] : nodesOf(node).map(placeOf);
}

async function referrersOf({ digest: subject, source }: Place, matters: (type: string) => boolean): Promise<Listed[]> {
  const listed = (await source.referrersOf?.(subject)) ?? [];
  const others = listed.filter(
    ({ descriptor: { artifactType } }) =>
      !isOwnRecord(artifactType) && (artifactType === undefined || matters(artifactType)),
  );
  if (others.length > most) {
    throw tooMany(`${source.label}@${subject}`);
  }
  const all = await Promise.all(
    others.map(async ({ descriptor, tag }): Promise<Listed> => {
      let reading: Promise<ContentNode> | undefined;
      // Rules and carriers read it, and it is asked for once.
      const read = (): Promise<ContentNode> => (reading ??= readContent(source, descriptor));
      const { digest, artifactType } = descriptor;
      const referrer = { subject, digest, tag, read };
      const node = artifactType === undefined ? await readUnlessGone(referrer) : undefined;
      const type = artifactType ?? (node === undefined ? descriptor.mediaType : typeOf(node.manifest));
      return { referrer: { ...referrer, type }, descriptor, source };
    }),
  );
  return all.filter(({ referrer: { type } }) => matters(type));
}

/** Reads something that a place lists; undefined where the place does not have it. */
export async function readUnlessGone({ read }: Pick<Referrer, 'read'>): Promise<ContentNode | undefined> {
  try {
    return await read();
  } catch (error) {
    if (error instanceof HodError && error.fault === 'missing') {
      return undefined;
    }
    throw error;
  }
}
