import { stat } from 'node:fs/promises';
import { HodError, messageOf, systemErrorCode } from '../core/errors';
import { beginningOf } from './beginnings';
import { holds } from './document';
import {
  chooseOutputImage,
  unrecognised,
  type OutputImage,
  type OpenedOutput,
  type OutputLocation,
} from './output-images';
import { fileAt, fileBytes, type OutputFiles, type PlainFile } from './files';
import { folderFiles } from './folder';
import { gunzipped } from './gunzip';
import { layoutImages } from './layout';
import { olderImages } from './older-archive';
import type { Packing } from './packing';
import { tarFiles } from './tar';
import { beginsTar } from './tar-header';
import { keepTemporarily } from './temporary';

/** Opens a build output at a place. Throws as {@link outputEntries}, and `missing` where it has no such image. */
export async function openOutput(location: OutputLocation, packing: Packing): Promise<OpenedOutput> {
  return chooseOutputImage(await outputImages(location.path, packing), location).open();
}

/**
 * The images of a build output: an image layout, or an image archive of the older kind; a folder, a .tar, or one that is
 * compressed with gzip. What it is, its content says, not its name. Where it is both, the layout counts.
 *
 * Throws `missing` where there is none, `corrupt` where it cannot be trusted.
 */
export async function outputImages(path: string, packing: Packing): Promise<OutputImage[]> {
  const files = await openFiles(path);
  if ((await files.size('oci-layout')) !== undefined) {
    return layoutImages(files);
  }
  if ((await files.size('manifest.json')) !== undefined) {
    return olderImages(files, packing);
  }
  throw unrecognised(files.label, `it has neither oci-layout nor manifest.json; ${holds(await files.names())}`);
}

async function openFiles(path: string): Promise<OutputFiles> {
  const found = await stat(path).catch((error: unknown) => {
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
  });
  if (!found.isDirectory() && !found.isFile()) {
    throw unrecognised(path, 'it is a pipe or a device, and neither a folder nor a file');
  }
  return found.isDirectory() ? folderFiles(path) : openArchive(fileAt(path));
}

async function openArchive(file: PlainFile): Promise<OutputFiles> {
  const block = await firstBlock(file);
  const beginning = beginningOf(block);
  if (beginning?.kind === 'gzip') {
    const unpacked = await keepTemporarily(file.label, notEndless(gunzipped(fileBytes(file), file.label), file));
    return openTar(unpacked, await firstBlock(unpacked), 'it is compressed with gzip, and what it holds is no .tar');
  }
  return openTar(file, block, `it is no .tar: ${beginning?.says ?? describe(block)}`);
}

/** An archive that unpacks to more than this, and to more than so many times what it is, is there to fill a disk. */
const [unpackedLimit, unpackedTimes] = [8 * 1024 ** 3, 200];

/** Passes on what was unpacked. Throws `corrupt` where it is out of all proportion. */
async function* notEndless(bytes: AsyncIterable<Uint8Array>, file: PlainFile): AsyncGenerator<Uint8Array> {
  const open = await file.open();
  await open.close();
  let size = 0;
  for await (const piece of bytes) {
    size += piece.length;
    if (size > Math.max(unpackedLimit, unpackedTimes * open.length)) {
      throw new HodError('archive-corrupt', {
        what: 'this archive unpacks to more than any image',
        object: file.label,
        why: `it has ${open.length} bytes, and unpacks to more than ${size}`,
        next: 'unpack it yourself where that is meant, and name the .tar',
      });
    }
    yield piece;
  }
}

function openTar(file: PlainFile, block: Buffer, why: string): Promise<OutputFiles> {
  if (!beginsTar(block)) {
    throw unrecognised(file.label, why);
  }
  return tarFiles(file);
}

async function firstBlock(file: PlainFile): Promise<Buffer> {
  const open = await file.open();
  try {
    const buffer = Buffer.alloc(512);
    return buffer.subarray(0, await open.read(buffer, buffer.length, 0));
  } finally {
    await open.close();
  }
}

function describe(block: Buffer): string {
  return block.length === 0 ? 'it is empty' : `it begins with ${JSON.stringify(block.toString('utf8', 0, 40))}`;
}
