import * as z from 'zod';
import { allBytes } from '../core/bytes';
import { HodError } from '../core/errors';
import { annotationKeys } from '../core/oci/annotations';
import { readContent, readManifest, verified, type ContentSource } from '../core/oci/content';
import { blobsOf, manifestSizeLimit } from '../core/oci/manifest';
import { descriptorSchema, type Descriptor } from '../core/oci/descriptor';
import type { Digest } from '../core/oci/digest';
import { blobName } from '../core/oci/layout-index';
import { manifestKind } from '../core/oci/media-types';
import { readDigestTag, referrersTag, type ListedReferrer } from '../core/oci/referrers';
import { isTag } from '../core/oci/tag';
import { readDocument } from './document';
import { parcelType, parseParcelDocument, type LeftOut, type ParcelDocument } from '../core/ledger/parcel-document';
import type { OutputImage } from './output-images';
import type { OutputFiles } from './files';

const indexJsonSchema = z.object({ schemaVersion: z.literal(2), manifests: z.array(descriptorSchema) });
const layoutFileSchema = z.object({ imageLayoutVersion: z.string().regex(/^1\./, 'must be 1.x') });

/**
 * The images and indexes of an image layout (OCI image specification, image-layout.md).
 *
 * Throws `missing` where it is not whole, `corrupt` where it cannot be trusted.
 */
export async function layoutImages(files: OutputFiles): Promise<OutputImage[]> {
  const listed = await readRoots(files);
  // What a parcel says of its release is none of its images.
  const roots = listed.filter((root) => !isParcelDocument(root));
  const plain = layoutSource(files, (await readParcelDocument(files, listed))?.document?.leftOut);
  const referrers = roots.length > 1 ? await referrersIn(roots, plain) : [];
  const source: ContentSource = {
    ...plain,
    referrersOf: (digest) =>
      Promise.resolve(referrers.filter(({ subject, stem }) => subject === digest || stem === referrersTag(digest))),
  };
  return roots
    .filter((root) => !referrers.some(({ descriptor }) => descriptor === root))
    .map((root) => ({
      names: [root.annotations?.get(annotationKeys.entryName)].filter((name) => name !== undefined),
      identity: root.digest,
      open: () => Promise.resolve({ source, root }),
    }));
}

/** The manifests that a layout lists. */
async function readRoots(files: OutputFiles): Promise<Descriptor[]> {
  await readDocument(files, 'oci-layout', layoutFileSchema);
  const { manifests } = await readDocument(files, 'index.json', indexJsonSchema);
  return manifests.filter(({ mediaType }) => manifestKind(mediaType) !== undefined);
}

function isParcelDocument({ artifactType }: Descriptor): boolean {
  return artifactType === parcelType;
}

/** What a layout says of its releases. */
export interface FoundParcel {
  /** Undefined where it cannot be read. */
  readonly document: ParcelDocument | undefined;
}

/**
 * Reads what a layout says of its releases, and checks that everything that the layout lists is there: each manifest byte by byte,
 * small documents too; what is large is checked when it is carried. Undefined where it says nothing. Throws as {@link layoutImages}.
 */
export async function layoutParcel(files: OutputFiles): Promise<FoundParcel | undefined> {
  const roots = await readRoots(files);
  const found = await readParcelDocument(files, roots);
  const source = layoutSource(files, found?.document?.leftOut);
  for (const root of roots) {
    const { manifest } = await readContent(source, root);
    const isDocument = manifest.subject !== undefined || manifest.artifactType !== undefined;
    for (const blob of isDocument ? blobsOf(manifest) : []) {
      // What is not there was left out: readContent has checked that.
      if (blob.size <= manifestSizeLimit && (await files.size(blobName(blob))) !== undefined) {
        await allBytes(verified(await source.openBlob(blob), blob, source.label));
      }
    }
  }
  return found;
}

/** More than a release is ever told of, in bytes. */
const documentSizeLimit = 64 * 1024 * 1024;

async function readParcelDocument(files: OutputFiles, roots: readonly Descriptor[]): Promise<FoundParcel | undefined> {
  const root = roots.find(isParcelDocument);
  if (root === undefined) {
    return undefined;
  }
  const source = layoutSource(files);
  const manifest = await readManifest(source, root);
  const [blob] = manifest.kind === 'image' ? manifest.layers : [];
  if (blob === undefined || blob.size > documentSizeLimit) {
    return { document: undefined };
  }
  return { document: parseParcelDocument(await allBytes(verified(await source.openBlob(blob), blob, source.label))) };
}

/**
 * The referrers that a layout holds beside its images: manifests that name a subject, or that are called by a tag
 * that is made of a digest.
 */
async function referrersIn(
  roots: readonly Descriptor[],
  source: ContentSource,
): Promise<(ListedReferrer & { subject?: Digest | undefined; stem?: string | undefined })[]> {
  const found = await Promise.all(
    roots.map(async (descriptor) => {
      const name = descriptor.annotations?.get(annotationKeys.entryName) ?? '';
      const named = readDigestTag(name);
      if (named?.isList === false && isTag(name)) {
        return [{ descriptor, tag: name, stem: named.stem }];
      }
      const subject = await subjectOf(descriptor, source);
      return subject === undefined ? [] : [{ descriptor, subject }];
    }),
  );
  return found.flat();
}

/**
 * What a manifest refers to. One that is not there, as a layout may leave it out, is looked for when somebody opens it; one that is
 * damaged may be what refers to an image, and would be lost without a word.
 *
 * @throws {@link HodError} `manifest-corrupt`
 */
async function subjectOf(descriptor: Descriptor, source: ContentSource): Promise<Digest | undefined> {
  try {
    return (await readManifest(source, descriptor)).subject?.digest;
  } catch (error) {
    if (error instanceof HodError && error.fault === 'missing') {
      return undefined;
    }
    throw error;
  }
}

/** @param leftOut Layers that need not be in it (OCI image specification, image-layout.md: blobs may be elsewhere). */
function layoutSource(files: OutputFiles, leftOut?: LeftOut): ContentSource {
  const elsewhere = new Set(leftOut?.blobs.map(({ digest }) => digest));
  /** Whether a blob is there, and not left out. Throws where it is neither, or has another size. */
  const isThere = async (descriptor: Descriptor): Promise<boolean> => {
    const size = await files.size(blobName(descriptor));
    const object = `${descriptor.digest} in ${files.label}`;
    const next = 'build the image again; nothing was tagged';
    if (size === undefined && !elsewhere.has(descriptor.digest)) {
      throw new HodError('blob-missing', {
        what: 'a blob is missing from the image layout',
        object,
        why: `there is no file ${blobName(descriptor)}`,
        next,
      });
    }
    if (size !== undefined && size !== descriptor.size) {
      throw new HodError('layout-corrupt', {
        what: 'a blob of the image layout has the wrong size',
        object,
        why: `it has ${size} bytes and its descriptor promises ${descriptor.size}`,
        next,
      });
    }
    return size !== undefined;
  };
  const open = async (descriptor: Descriptor, from?: number): Promise<AsyncIterable<Uint8Array>> => {
    if (!(await isThere(descriptor))) {
      const releases = leftOut?.releases.join(', ') ?? '';
      throw new HodError('blob-left-out', {
        what: 'the parcel leaves out a layer that the registry lacks',
        object: `${descriptor.digest} in ${files.label}`,
        why: `it was packed with --since, for a registry that has the layers of ${releases}`,
        next: `publish the parcel of ${releases} first, or pack this release without --since`,
      });
    }
    return files.open(blobName(descriptor), from);
  };
  return {
    label: files.label,
    checkBlob: async (descriptor) => {
      await isThere(descriptor);
    },
    readManifest: async (descriptor) => allBytes(await open(descriptor)),
    openBlob: open,
  };
}
