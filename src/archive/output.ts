import { stat } from 'node:fs/promises';
import { HodError, messageOf, systemErrorCode } from '../core/errors';
import { beginningOf } from './beginnings';
import { holds } from './document';
import {
  chooseOutputImage,
  standardInput,
  unrecognised,
  type OpenedOutput,
  type OutputImage,
  type OutputLocation,
} from './output-images';
import { fileAt, fileBytes, type OutputFiles, type PlainFile } from './files';
import { folderFiles } from './folder';
import { layoutImages, layoutParcel, type FoundParcel } from './layout';
import { olderImages } from './older-archive';
import type { Packing } from './packing';
import { tarFiles } from './tar';
import { beginsTar } from './tar-header';
import { keepTemporarily } from './temporary';
import { unpacked } from './unpack';

/** Opens a build output at a place. Throws as {@link outputEntries}, and `missing` where it has no such image. */
export async function openOutput(location: OutputLocation, packing: Packing): Promise<OpenedOutput> {
  return chooseOutputImage(await outputImages(location.path, packing), location).open();
}

/**
 * The images of a build output: an image layout, or an image archive of the older kind; a folder, a .tar, or one that is
 * compressed with gzip or zstd; from standard input too. What it is, its content says, not its name. Where it is both, the layout counts.
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

/** Reads what a parcel says of its releases; undefined of any other image layout. Throws as {@link outputImages}. */
export async function outputParcel(path: string): Promise<FoundParcel | undefined> {
  return layoutParcel(await openFiles(path));
}

async function openFiles(path: string): Promise<OutputFiles> {
  if (path === standardInput) {
    return openArchive(await (keptInput ??= keepInput()));
  }
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
  if (beginning?.kind === 'gzip' || beginning?.kind === 'zstd') {
    const kept = await keepTemporarily(file.label, unpackedWithin(fileBytes(file), file.label));
    return openTar(kept, await firstBlock(kept), `${beginning.says}, and what it holds is no .tar`);
  }
  return openTar(file, block, `it is no .tar: ${beginning?.says ?? describe(block)}`);
}

/** What is read from standard input, once: several images may be in it. */
let keptInput: Promise<PlainFile> | undefined;

/** Keeps an archive from standard input, unpacked: its index may come last, and content is read more than once. */
function keepInput(): Promise<PlainFile> {
  const label = 'standard input';
  if (process.stdin.isTTY) {
    throw new HodError('output-missing', {
      what: 'there is no build output on standard input',
      object: label,
      why: 'it is a terminal',
      next: 'pipe an archive into the command: `BUILDER | hod … --from -`',
    });
  }
  return keepTemporarily(label, unpackedWithin(process.stdin, label));
}

/** An archive that unpacks to more than this, and to more than so many times what it is, is there to fill a disk. */
const [unpackedLimit, unpackedTimes] = [8 * 1024 ** 3, 200];

/** Unpacks what is compressed, as it comes. Throws `corrupt` where that is out of all proportion. */
async function* unpackedWithin(packed: AsyncIterable<Uint8Array>, label: string): AsyncGenerator<Uint8Array> {
  let [read, size] = [0, 0];
  const counted = async function* (): AsyncGenerator<Uint8Array> {
    for await (const piece of packed) {
      read += piece.length;
      yield piece;
    }
  };
  for await (const piece of unpacked(counted(), label)) {
    size += piece.length;
    if (size > Math.max(unpackedLimit, unpackedTimes * read)) {
      throw new HodError('archive-corrupt', {
        what: 'this archive unpacks to more than any image',
        object: label,
        why: `${read} bytes of it unpack to more than ${size}`,
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
