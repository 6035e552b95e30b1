import { lstat, mkdir } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import pLimit from 'p-limit';
import { onePiece } from '../core/bytes';
import { HodError, messageOf, systemErrorCode } from '../core/errors';
import { nodesOf, verified } from '../core/oci/content';
import { digestHasher, type Digest } from '../core/oci/digest';
import { blobName, layoutFile, layoutIndex, type LayoutEntry } from '../core/oci/layout-index';
import { blobsOf } from '../core/oci/manifest';
import { settleAll } from '../system/promises';
import { writeResumably, type FilePart } from '../system/resumable-file';
import { writeFile } from '../system/write-file';
import { fileAt, fileBytes } from './files';
import { tarEnd, tarHeader, tarPadding } from './tar-writer';

/** A file of a layout that is written. */
interface LayoutContent {
  readonly digest: Digest;
  readonly size: number;
  readonly open: () => AsyncIterable<Uint8Array>;
}

/** An image layout that is to be written, and how large it is. */
export interface NewLayout {
  readonly index: Uint8Array;
  /** Each manifest and blob once, in the order of their digests. */
  readonly contents: readonly LayoutContent[];
  /** Bytes of all files. */
  readonly size: number;
}

/**
 * What is needed to write an image layout of some entries (OCI image specification, image-layout.md). Reads no blob yet.
 *
 * @param leftOut Blobs that are not written.
 */
export function newLayout(entries: readonly LayoutEntry[], leftOut: ReadonlySet<Digest> = new Set()): NewLayout {
  const contents = new Map<Digest, LayoutContent>();
  for (const { manifest, source } of entries.flatMap(({ node }) => nodesOf(node))) {
    const { digest, bytes } = manifest;
    contents.set(digest, { digest, size: bytes.length, open: () => onePiece(bytes) });
    for (const blob of blobsOf(manifest)) {
      const open = async function* (): AsyncGenerator<Uint8Array> {
        yield* verified(await source.openBlob(blob), blob, source.label);
      };
      contents.set(blob.digest, contents.get(blob.digest) ?? { digest: blob.digest, size: blob.size, open });
    }
  }
  const all = [...contents.values()]
    .filter(({ digest }) => !leftOut.has(digest))
    .sort((a, b) => (a.digest < b.digest ? -1 : 1));
  const index = layoutIndex(entries);
  return {
    index,
    contents: all,
    size: all.reduce((sum, { size }) => sum + size, layoutFile.length + index.length),
  };
}

/**
 * Writes an image layout as one .tar: its index first, so that it can be read from a pipe. The same content gives the same bytes.
 * What a run that ended left is checked and gone on with.
 *
 * @returns How many bytes were there already.
 * @throws `file-unusable`; `missing` or `corrupt` where content is not what it should be.
 */
export function writeLayoutTar(path: string, { index, contents }: NewLayout): Promise<number> {
  const parts: FilePart[] = [
    ...plainPart('oci-layout', layoutFile),
    ...plainPart('index.json', index),
    ...contents.flatMap((content): FilePart[] => [
      { bytes: tarHeader({ name: blobName(content), size: content.size }) },
      { ...content, isWhole: (bytes) => hasDigest(bytes, content) },
      { bytes: tarPadding(content.size) },
    ]),
    { bytes: tarEnd() },
  ];
  return writing(path, () => writeResumably(path, parts));
}

function plainPart(name: string, bytes: Uint8Array): FilePart[] {
  return [{ bytes: tarHeader({ name, size: bytes.length }) }, { bytes }, { bytes: tarPadding(bytes.length) }];
}

/**
 * Writes an image layout into a folder, and `index.json` last. Keeps files that are complete.
 *
 * @returns How many bytes were there already.
 * @throws As {@link writeLayoutTar}.
 */
export function writeLayoutFolder(folder: string, { index, contents }: NewLayout): Promise<number> {
  return writing(folder, async () => {
    const turn = pLimit(filesAtOnce);
    const kept = await settleAll(contents.map((content) => turn(() => writeBlob(folder, content))));
    await mkdir(folder, { recursive: true });
    await writeFile(join(folder, 'oci-layout'), layoutFile);
    await writeFile(join(folder, 'index.json'), index);
    return kept.reduce((sum, size) => sum + size, 0);
  });
}

/** Files that are written at once: a large one takes memory, and a small one a round trip. */
const filesAtOnce = 8;

/** Writes a file of a layout where it is not there whole. Answers how many bytes were there. */
async function writeBlob(folder: string, content: LayoutContent): Promise<number> {
  const path = join(folder, blobName(content));
  if (await isThere(path, content)) {
    return content.size;
  }
  await mkdir(dirname(path), { recursive: true });
  await writeFile(path, content.open());
  return 0;
}

async function isThere(path: string, content: LayoutContent): Promise<boolean> {
  const found = await lstat(path).catch(() => undefined);
  return found?.isFile() === true && found.size === content.size && hasDigest(fileBytes(fileAt(path)), content);
}

async function hasDigest(bytes: AsyncIterable<Uint8Array>, { digest }: LayoutContent): Promise<boolean> {
  const hasher = digestHasher(digest);
  for await (const piece of bytes) {
    hasher.update(piece);
  }
  return hasher.digest() === digest;
}

async function writing<T>(path: string, work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (error instanceof HodError || systemErrorCode(error) === undefined) {
      throw error;
    }
    throw new HodError(
      'file-unusable',
      {
        what: 'it cannot be written there',
        object: path,
        why: messageOf(error),
        next: 'make room, or name another place with --out; the same command goes on where this one ended',
      },
      { cause: error },
    );
  }
}
