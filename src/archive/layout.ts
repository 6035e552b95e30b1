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
import { parcelType } from '../core/ledger/parcel-document';
import type { OpenedOutput, OutputImage } from './output-images';
import type { OutputFiles } from './files';

const indexJsonSchema = z.object({ schemaVersion: z.literal(2), manifests: z.array(descriptorSchema) });
const layoutFileSchema = z.object({ imageLayoutVersion: z.string().regex(/^1\./, 'must be 1.x') });

/**
 * The images and indexes of an image layout (OCI image specification, image-layout.md).
 *
 * Throws `missing` where it is not whole, `corrupt` where it cannot be trusted.
 */
export async function layoutImages(files: OutputFiles): Promise<OutputImage[]> {
  // What a parcel says of its release is none of its images.
  const roots = (await readRoots(files)).filter(({ artifactType }) => artifactType !== parcelType);
  const referrers = roots.length > 1 ? await referrersIn(roots, layoutSource(files)) : [];
  const source: ContentSource = {
    ...layoutSource(files),
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

/**
 * Finds an artifact of a type in a layout, and checks that everything that the layout lists is there: each manifest byte by byte,
 * small documents too; what is large is checked when it is carried. Throws as {@link layoutImages}.
 */
export async function layoutArtifact(files: OutputFiles, artifactType: string): Promise<OpenedOutput | undefined> {
  const source = layoutSource(files);
  const roots = await readRoots(files);
  for (const root of roots) {
    const { manifest } = await readContent(source, root);
    const isDocument = manifest.subject !== undefined || manifest.artifactType !== undefined;
    for (const blob of isDocument ? blobsOf(manifest) : []) {
      if (blob.size <= manifestSizeLimit) {
        await allBytes(verified(await source.openBlob(blob), blob, source.label));
      }
    }
  }
  const root = roots.find((each) => each.artifactType === artifactType);
  return root && { source, root };
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

/** What a manifest refers to. One that cannot be read is looked into when somebody opens it. */
async function subjectOf(descriptor: Descriptor, source: ContentSource): Promise<Digest | undefined> {
  try {
    return (await readManifest(source, descriptor)).subject?.digest;
  } catch (error) {
    if (error instanceof HodError) {
      return undefined;
    }
    throw error;
  }
}

function layoutSource(files: OutputFiles): ContentSource {
  const checkBlob = async (descriptor: Descriptor): Promise<void> => {
    const size = await files.size(blobName(descriptor));
    const object = `${descriptor.digest} in ${files.label}`;
    const next = 'build the image again; nothing was tagged';
    if (size === undefined) {
      throw new HodError('blob-missing', {
        what: 'a blob is missing from the image layout',
        object,
        why: `there is no file ${blobName(descriptor)}`,
        next,
      });
    }
    if (size !== descriptor.size) {
      throw new HodError('layout-corrupt', {
        what: 'a blob of the image layout has the wrong size',
        object,
        why: `it has ${size} bytes and its descriptor promises ${descriptor.size}`,
        next,
      });
    }
  };
  return {
    label: files.label,
    checkBlob,
    async readManifest(descriptor) {
      await checkBlob(descriptor);
      return allBytes(files.open(blobName(descriptor)));
    },
    async openBlob(descriptor, from) {
      await checkBlob(descriptor);
      return files.open(blobName(descriptor), from);
    },
  };
}
