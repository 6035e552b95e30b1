import { lstat, readdir } from 'node:fs/promises';
import { basename, join, relative, sep } from 'node:path';
import { onePiece, withoutFirst } from '../core/bytes';
import { HodError, messageOf, systemErrorCode } from '../core/errors';
import { bundleManifest, emptyConfig } from '../core/oci/bundle';
import type { ContentNode, ContentSource } from '../core/oci/content';
import { digestHasher, sha256 } from '../core/oci/digest';
import { fileAt, fileBytes, readable } from './files';
import { tarEnd, tarHeader, tarPadding } from './tar-writer';

interface BundledFile {
  /** Relative, with `/`. */
  name: string;
  path: string;
  size: number;
  executable: boolean;
}

/**
 * Reads the files of a folder, or one file, as a bundle. What a file is called, whether it may be
 * run, and its bytes count; its times and owner do not.
 *
 * Throws `missing` where there is nothing, `usage` for links and other things that are not files.
 */
export async function readBundle(name: string, root: string): Promise<ContentNode> {
  const files = await listFiles(root);
  const hasher = digestHasher();
  let size = 0;
  for await (const piece of archive(files)) {
    hasher.update(piece);
    size += piece.length;
  }
  const manifest = bundleManifest(name, { digest: hasher.digest(), size });
  const source: ContentSource = {
    label: root,
    readManifest: () => Promise.resolve(manifest.bytes),
    openBlob: ({ digest }, from = 0) =>
      Promise.resolve(
        digest === sha256(emptyConfig.bytes) ? onePiece(emptyConfig.bytes) : withoutFirst(from, archive(files)),
      ),
  };
  return { manifest, source, children: [] };
}

async function listFiles(root: string): Promise<BundledFile[]> {
  const found = await lstat(root).catch((error: unknown) => {
    throw new HodError('files-missing', {
      what: 'there are no files for a bundle here',
      object: root,
      why: systemErrorCode(error) === 'ENOENT' ? 'no such file or folder' : messageOf(error),
      next: 'make them first, or correct the path (`files:` in hod.yaml)',
    });
  });
  const paths = found.isDirectory()
    ? await readable(root, readdir(root, { recursive: true, withFileTypes: true }))
    : undefined;
  const files: BundledFile[] = [];
  for (const path of paths?.map((entry) => join(entry.parentPath, entry.name)) ?? [root]) {
    const entry = await readable(path, lstat(path));
    if (entry.isDirectory()) {
      continue;
    }
    if (!entry.isFile()) {
      throw new HodError('not-a-plain-file', {
        what: 'a bundle holds plain files only',
        object: path,
        why: 'it is a link, or a device: what it stands for can change, or be elsewhere',
        next: 'put the file itself there',
      });
    }
    const name = paths === undefined ? basename(path) : relative(root, path).split(sep).join('/');
    files.push({ name, path, size: entry.size, executable: (entry.mode & 0o100) !== 0 });
  }
  if (files.length === 0) {
    throw new HodError('files-missing', {
      what: 'there are no files for a bundle here',
      object: root,
      why: 'the folder is empty',
      next: 'make them first, or correct the path (`files:` in hod.yaml)',
    });
  }
  return files.sort((a, b) => (a.name < b.name ? -1 : 1));
}

/** The bytes of a .tar (POSIX.1-2001 pax) of the files, in the order in which they are given. */
async function* archive(files: readonly BundledFile[]): AsyncGenerator<Uint8Array> {
  for (const file of files) {
    yield tarHeader(file);
    let size = 0;
    for await (const piece of fileBytes(fileAt(file.path))) {
      size += piece.length;
      yield piece;
    }
    if (size !== file.size) {
      throw new HodError('files-changed', {
        what: 'a file of a bundle changed while it was read',
        object: file.path,
        why: `it had ${file.size} bytes and now has ${size}`,
        next: 'run the command again when nothing writes there',
      });
    }
    yield tarPadding(size);
  }
  yield tarEnd();
}
