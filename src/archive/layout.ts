import { stat } from 'node:fs/promises';
import * as z from 'zod';
import { allBytes, atMost } from '../core/bytes';
import { HodError, messageOf, systemErrorCode } from '../core/errors';
import { issuesToText, readJson } from '../core/json';
import { annotationKeys } from '../core/oci/annotations';
import type { ContentSource } from '../core/oci/content';
import { descriptorSchema, type Descriptor } from '../core/oci/descriptor';
import type { Digest } from '../core/oci/digest';
import { manifestSizeLimit } from '../core/oci/manifest';
import { manifestKind } from '../core/oci/media-types';
import type { LayoutFiles } from './files';
import { folderFiles } from './folder';
import { tarFiles } from './tar';

/** Where an image layout is, and which of its entries is meant: `out/all.tar#timetable`. */
export interface LayoutLocation {
  path: string;
  /** The name of an entry; needed where the layout has several. */
  entry?: string | undefined;
}

/** Reads `path` or `path#entry`. */
export function parseLayoutLocation(text: string): LayoutLocation {
  const mark = text.lastIndexOf('#');
  return mark < 0 ? { path: text } : { path: text.slice(0, mark), entry: text.slice(mark + 1) };
}

/** An image layout, opened: a place to read content from, and the entry that was asked for. */
export interface Layout {
  readonly source: ContentSource;
  readonly root: Descriptor;
}

const indexJsonSchema = z.object({ schemaVersion: z.literal(2), manifests: z.array(descriptorSchema) });
const layoutFileSchema = z.object({ imageLayoutVersion: z.string().regex(/^1\./, 'must be 1.x') });

/**
 * Opens an image layout (OCI image specification, image-layout.md), a folder or a .tar.
 *
 * Throws `missing` where there is no layout or no such entry, `corrupt` where it cannot be trusted.
 */
export async function openLayout(location: LayoutLocation): Promise<Layout> {
  const files = await openFiles(location.path);
  await readDocument(files, 'oci-layout', layoutFileSchema);
  const index = await readDocument(files, 'index.json', indexJsonSchema);
  return { source: layoutSource(files), root: chooseEntry(index.manifests, location) };
}

async function openFiles(path: string): Promise<LayoutFiles> {
  try {
    const found = await stat(path);
    if (!found.isDirectory() && !found.isFile()) {
      throw notALayout(path, 'it is a pipe or a device, and neither a folder nor a .tar');
    }
    return found.isDirectory() ? folderFiles(path) : await tarFiles(path);
  } catch (error) {
    if (error instanceof HodError) {
      throw error;
    }
    throw new HodError(
      'output-missing',
      {
        what: 'there is no build output here',
        object: path,
        why: systemErrorCode(error) === 'ENOENT' ? 'no such file or folder' : messageOf(error),
        next: 'build the image first, or correct the path (`from:` in hod.yaml)',
      },
      { cause: error },
    );
  }
}

async function readDocument<T>(files: LayoutFiles, name: string, schema: z.ZodType<T>): Promise<T> {
  const object = `${name} in ${files.label}`;
  if ((await files.size(name)) === undefined) {
    const found = await files.names();
    throw notALayout(
      files.label,
      `it has no ${name}; ${found.length === 0 ? 'there is nothing in it' : `what it holds begins with ${found.join(', ')}`}`,
    );
  }
  const bytes = await atMost(manifestSizeLimit, files.open(name));
  const { object: document, problem } = readJson(bytes ?? new Uint8Array());
  const parsed = schema.safeParse(document ?? null);
  if (!parsed.success) {
    throw new HodError('layout-corrupt', {
      what: 'this image layout cannot be read',
      object,
      why: document === undefined ? problem : issuesToText(parsed.error),
      next: 'build the image again',
    });
  }
  return parsed.data;
}

function notALayout(object: string, why: string): HodError {
  return new HodError('not-a-layout', {
    what: 'this is not an image layout',
    object,
    why,
    next: 'let the builder write an OCI image layout, a folder or a .tar',
  });
}

function chooseEntry(entries: readonly Descriptor[], { path, entry }: LayoutLocation): Descriptor {
  const manifests = entries.filter(({ mediaType }) => manifestKind(mediaType) !== undefined);
  const names = manifests.map(({ annotations }) => annotations?.get(annotationKeys.entryName));
  const chosen = entry === undefined ? manifests : manifests.filter((_, at) => names[at] === entry);
  const [first] = chosen;
  if (first !== undefined && chosen.every(({ digest }) => digest === first.digest)) {
    return first;
  }
  const known = [...new Set(names.filter((name) => name !== undefined))];
  throw new HodError(entry === undefined ? 'entry-ambiguous' : 'entry-missing', {
    what: entry === undefined ? 'it is not clear which image is meant' : 'this image layout has no such entry',
    object: entry === undefined ? path : `${path}#${entry}`,
    why:
      manifests.length === 0
        ? 'it holds no image'
        : `it holds ${manifests.length} entries: ${known.join(', ') || 'without names'}`,
    next: known.length === 0 ? 'write one image or index in it' : `name one of them: ${path}#${known[0] ?? ''}`,
  });
}

function layoutSource(files: LayoutFiles): ContentSource {
  const checkBlob = async (descriptor: Descriptor): Promise<void> => {
    const size = await files.size(blobName(descriptor.digest));
    const object = `${descriptor.digest} in ${files.label}`;
    const next = 'build the image again; nothing was tagged';
    if (size === undefined) {
      throw new HodError('blob-missing', {
        what: 'a blob is missing from the image layout',
        object,
        why: `there is no file ${blobName(descriptor.digest)}`,
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
      return allBytes(files.open(blobName(descriptor.digest)));
    },
    async openBlob(descriptor, from) {
      await checkBlob(descriptor);
      return files.open(blobName(descriptor.digest), from);
    },
  };
}

function blobName(digest: Digest): string {
  return `blobs/${digest.replace(':', '/')}`;
}
