import { HodError } from '../core/errors';
import {
  childrenThatRun,
  commonTo,
  nodesOf,
  readContent,
  type ContentNode,
  type ContentSource,
} from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import type { Digest } from '../core/oci/digest';
import { manifestKind } from '../core/oci/media-types';
import { isCarried, typeOf, type Carrying } from '../core/oci/referrers';
import { recordType } from '../core/ledger/release-record';
import type { Tag } from '../core/oci/tag';

/** Something that belongs to a manifest, where it is read: a signature, a bill of materials, what tests said. */
export interface Attachment {
  readonly subject: Digest;
  readonly digest: Digest;
  readonly type: string;
  /** Reads it, and all below it. Throws `missing` where it is listed, and not there. */
  readonly read: () => Promise<ContentNode>;
  /** The tag that it stands under beside its subject; undefined where it names it. */
  readonly tag?: Tag | undefined;
}

/** More than this belongs to no image. */
const most = 10_000;

/**
 * Everything that belongs to an image, to what is in it, or to something that does. Release records are left out: each release
 * has its own.
 *
 * @param matters Which types: of others there may be any number.
 * @throws `too-many-manifests`
 */
export async function attachmentsOf(
  root: ContentNode,
  matters: (type: string) => boolean = () => true,
): Promise<Attachment[]> {
  const found = new Map<string, Attachment>();
  const asked = new Set<Digest>();
  let level: Place[] = nodesOf(root).map(placeOf);
  while (level.length > 0) {
    const fresh = level.filter(({ digest }) => !asked.has(digest));
    fresh.forEach(({ digest }) => asked.add(digest));
    const listed = (await Promise.all(fresh.map((place) => attachedTo(place, matters)))).flat();
    const coming = listed.filter(({ attachment }) => !found.has(keyOf(attachment)));
    coming.forEach(({ attachment }) => found.set(keyOf(attachment), attachment));
    if (found.size > most) {
      throw tooMany(`${root.source.label}@${root.manifest.digest}`);
    }
    level = (await Promise.all(coming.map(placesIn))).flat();
  }
  return [...found.values()];
}

function tooMany(object: string): HodError {
  return new HodError('too-many-manifests', {
    what: 'too much belongs to an image',
    object,
    why: `Hod carries up to ${most} signatures, attestations and the like`,
    next: 'say what goes along: `referrers: { carry: [TYPE] }` of the environment',
  });
}

/** Those that go along into an environment: of the types that do, and not without what they belong to. */
export function carriedOf(root: ContentNode, all: readonly Attachment[], carrying: Carrying): Attachment[] {
  const going = new Set(nodesOf(root).map(({ manifest }) => manifest.digest));
  const carried: Attachment[] = [];
  // They stand in the order in which they were found: what something belongs to, before it.
  for (const each of all) {
    if (going.has(each.subject) && isCarried(each.type, carrying)) {
      carried.push(each);
      going.add(each.digest);
    }
  }
  return carried;
}

/** Reads what goes along with an image into an environment. Throws as {@link attachmentsOf}. */
export async function carriedWith(root: ContentNode, carrying: Carrying): Promise<Attachment[]> {
  return carrying === 'none'
    ? []
    : carriedOf(root, await attachmentsOf(root, (type) => isCarried(type, carrying)), carrying);
}

/** The types of what belongs to an image as a whole, or to everything in it that is not such a thing itself. */
export function attachedTypes(root: ContentNode, all: readonly Attachment[]): string[] {
  const typesOn = (node: ContentNode): string[] => {
    const own = all.filter(({ subject }) => subject === node.manifest.digest).map(({ type }) => type);
    const images = childrenThatRun(node).filter(({ manifest }) => manifest.artifactType === undefined);
    return [...own, ...commonTo(images.map(typesOn))];
  };
  return [...new Set(typesOn(root))];
}

function keyOf({ subject, digest, tag }: Attachment): string {
  return `${subject} ${digest} ${tag ?? ''}`;
}

/** A manifest that something may belong to, and where it is. */
interface Place {
  readonly digest: Digest;
  readonly source: ContentSource;
}

/** Something that a place lists, and the place. */
interface Listed {
  readonly attachment: Attachment;
  readonly descriptor: Descriptor;
  readonly source: ContentSource;
}

function placeOf({ manifest: { digest }, source }: ContentNode): Place {
  return { digest, source };
}

/** The manifests of something that belongs to an image: itself, and those below it where it is an index. */
async function placesIn({ attachment, descriptor, source }: Listed): Promise<Place[]> {
  if (manifestKind(descriptor.mediaType) !== 'index') {
    return [{ digest: descriptor.digest, source }];
  }
  const node = await readUnlessGone(attachment);
  return node === undefined ? [] : nodesOf(node).map(placeOf);
}

async function attachedTo({ digest: subject, source }: Place, matters: (type: string) => boolean): Promise<Listed[]> {
  const listed = (await source.attachedTo?.(subject)) ?? [];
  const others = listed.filter(
    ({ descriptor: { artifactType } }) =>
      artifactType !== recordType && (artifactType === undefined || matters(artifactType)),
  );
  if (others.length > most) {
    throw tooMany(`${source.label}@${subject}`);
  }
  const all = await Promise.all(
    others.map(async ({ descriptor, tag }): Promise<Listed> => {
      const read = (): Promise<ContentNode> => readContent(source, descriptor);
      const { digest, artifactType } = descriptor;
      const attachment = { subject, digest, tag, read };
      const node = artifactType === undefined ? await readUnlessGone(attachment) : undefined;
      const type = artifactType ?? (node === undefined ? descriptor.mediaType : typeOf(node.manifest));
      return { attachment: { ...attachment, type }, descriptor, source };
    }),
  );
  return all.filter(({ attachment: { type } }) => matters(type));
}

/** Reads something that a place lists; undefined where the place does not have it. */
export async function readUnlessGone({ read }: Pick<Attachment, 'read'>): Promise<ContentNode | undefined> {
  try {
    return await read();
  } catch (error) {
    if (error instanceof HodError && error.fault === 'missing') {
      return undefined;
    }
    throw error;
  }
}
