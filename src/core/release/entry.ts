import * as z from 'zod';
import { digestSchema, sha256, type Digest } from '../oci/digest';
import { isTag, type Tag } from '../tags/tag';
import { isVersion, type Version } from '../tags/version';
import { HodError } from '../errors';
import { issuesToText, parseJson } from '../oci/manifest';

const tagSchema = z.custom<Tag>((value) => typeof value === 'string' && isTag(value), 'must be a tag');
const versionSchema = z.custom<Version>((value) => typeof value === 'string' && isVersion(value), 'must be a version');

/** An image or bundle as it stands in the repository of an environment. */
const landedImageSchema = z.object({
  image: z.string(),
  /** `registry/name`. */
  repository: z.string(),
  digest: digestSchema,
  mediaType: z.string(),
  /** Bytes of the manifest. */
  size: z.number().int(),
  /** `os/arch[/variant]` of everything that runs. */
  platforms: z.array(z.string()),
});

/** A tag that now points at a digest, by decision of this entry. */
const setTagSchema = z.object({
  image: z.string(),
  repository: z.string(),
  tag: tagSchema,
  kind: z.enum(['fixed', 'moving']),
  digest: digestSchema,
});

const landing = {
  /** The release, as {@link releaseId} names it. */
  release: digestSchema,
  commit: z.string(),
  version: versionSchema.optional(),
  branch: z.string().optional(),
  /** The number that the CI gave to the build, and where its run can be looked at. */
  build: z.string().optional(),
  run: z.string().optional(),
  environment: z.string(),
  images: z.array(landedImageSchema),
  tags: z.array(setTagSchema),
  /** Whether the environment runs this from now on; false where something newer already did. */
  current: z.boolean(),
};

/** What happened: the part of an entry that says so. */
export const actionSchema = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('published'), ...landing }),
  z.object({
    kind: z.literal('promoted'),
    ...landing,
    /** The environment that it came from. */
    from: z.string(),
  }),
  /** Content is in the registry by digest; no tag points at it yet. */
  z.object({
    kind: z.literal('staged'),
    commit: z.string(),
    environment: z.string(),
    parts: z.array(landedImageSchema),
  }),
  /** A build ended without all of its outputs. */
  z.object({
    kind: z.literal('failed'),
    commit: z.string(),
    images: z.array(z.string()),
    reason: z.string(),
  }),
]);

/** An entry of the ledger. Entries are only ever added. */
export const entrySchema = z.object({
  product: z.string(),
  /** 1 for the first entry of a product, and one more for each that follows. */
  seq: z.number().int().positive(),
  /** The hash of the entry before; null in the first. */
  previous: digestSchema.nullable(),
  /** RFC 3339, UTC. */
  at: z.string(),
  /** Who did it: a person or a job. */
  actor: z.string(),
  action: actionSchema,
});

export type LandedImage = z.infer<typeof landedImageSchema>;
export type SetTag = z.infer<typeof setTagSchema>;
export type Action = z.infer<typeof actionSchema>;
export type Entry = z.infer<typeof entrySchema>;
/** What brings a release into an environment. */
export type Landing = Extract<Action, { kind: 'published' | 'promoted' }>;

/** What makes a release the one it is. */
export interface ReleaseIdentity {
  product: string;
  commit: string;
  version: Version | undefined;
  /** The digest of each image. */
  images: readonly { image: string; digest: Digest }[];
}

/** The name of a release: equal for equal content of one commit under one version, wherever it is published from. */
export function releaseId({ product, commit, version, images }: ReleaseIdentity): Digest {
  const content = images.map(({ image, digest }) => [image, digest]).sort();
  return sha256(JSON.stringify([product, commit, version ?? null, content]));
}

/** The name of what a release holds, whatever commit and version it has. */
export function contentId(images: readonly { image: string; digest: Digest }[]): Digest {
  return sha256(JSON.stringify(images.map(({ image, digest }) => [image, digest]).sort()));
}

/** The last entry of a product, as one that follows must name it. `seq` is 0 before the first. */
export interface Head {
  seq: number;
  hash: Digest | null;
}

/** The head of a ledger without entries. */
export const emptyHead: Head = { seq: 0, hash: null };

/** An entry as it is stored: its exact text, and the hash of that text. */
export interface StoredEntry {
  text: string;
  hash: Digest;
}

/** An entry beside the form in which it is stored. This, and never a copy made from the parsed form, is kept. */
export interface SealedEntry extends StoredEntry {
  entry: Entry;
}

/** The form in which an entry is stored; the next entry names its hash. */
function sealEntry(given: Entry): SealedEntry {
  const text = JSON.stringify(given);
  // As it will be read: what is folded now and what is folded from the stored text must be the same.
  const entry = entrySchema.parse(JSON.parse(text));
  return { entry, text, hash: sha256(text) };
}

/** The entry that follows a head. */
export function entryAfter(head: Head, entry: Omit<Entry, 'seq' | 'previous'>): SealedEntry {
  const { product, at, actor, action } = entry;
  return sealEntry({ product, seq: head.seq + 1, previous: head.hash, at, actor, action });
}

/**
 * Reads a stored entry back and checks that it follows `before`. Throws a `corrupt` error if its
 * text was changed or an entry is missing before it.
 */
export function openEntry(stored: StoredEntry, before: Head): SealedEntry {
  const corrupt = (why: string): HodError =>
    new HodError('corrupt', {
      what: 'the ledger was changed outside Hod',
      object: `entry ${before.seq + 1}`,
      why,
      next: 'restore the ledger from its backup',
    });
  if (sha256(stored.text) !== stored.hash) {
    throw corrupt('its text does not have its hash');
  }
  const parsed = entrySchema.safeParse(parseJson(new TextEncoder().encode(stored.text)));
  if (!parsed.success) {
    throw corrupt(issuesToText(parsed.error));
  }
  if (parsed.data.seq !== before.seq + 1 || parsed.data.previous !== before.hash) {
    throw corrupt('it does not follow the entry before it');
  }
  return { entry: parsed.data, ...stored };
}
