import type { FileHandle } from 'node:fs/promises';
import { Header, type HeaderData } from 'tar/header';
import { Pax } from 'tar/pax';
import { HodError, messageOf } from '../core/errors';
import { fileBytes, naming, namesTold, openFile, type LayoutFiles } from './files';

const blockSize = 512;
/** The longest extended header to read: path names, not content. */
const extensionLimit = 1024 * 1024;
/** More files than any image layout has: a layout has one for each manifest and blob. */
const memberLimit = 100_000;

interface Member {
  /** Where its bytes begin in the file. */
  start: number;
  size: number;
}

/**
 * The files of an image layout that is a .tar. One walk over the headers, skipping the content,
 * finds where each file lies, so members may stand in any order.
 *
 * Throws `corrupt` for links, for members whose names lead outside, that stand twice, or that are cut off.
 */
export async function tarFiles(path: string): Promise<LayoutFiles> {
  const { handle, length } = await openFile(path);
  const members = await readMembers(handle, length, path).finally(() => handle.close());
  return {
    label: path,
    names: () => Promise.resolve([...members.keys()].slice(0, namesTold)),
    size: (name) => Promise.resolve(members.get(name)?.size),
    open(name, from = 0) {
      const { start, size } = members.get(name) ?? { start: 0, size: 0 };
      return fileBytes(path, { start: start + from, size: Math.max(0, size - from) });
    },
  };
}

async function readMembers(handle: FileHandle, fileSize: number, path: string): Promise<Map<string, Member>> {
  const members = new Map<string, Member>();
  const corrupt = (why: string): HodError =>
    new HodError('archive-corrupt', { what: 'this .tar cannot be read', object: path, why, next: 'write it again' });
  const read = async (start: number, length: number): Promise<Buffer> => {
    const buffer = Buffer.alloc(length);
    const { bytesRead } = await naming(path, handle.read(buffer, 0, length, start));
    if (bytesRead < length) {
      throw corrupt('it is cut off');
    }
    return buffer;
  };

  let extended: HeaderData | undefined;
  for (let at = 0; at + blockSize <= fileSize;) {
    const block = await read(at, blockSize);
    const header = headerOf(block, extended, corrupt);
    at += blockSize;
    if (header.nullBlock) {
      continue;
    }
    if (!header.cksumValid) {
      throw corrupt(
        at === blockSize
          ? 'it is not a .tar (a compressed one must be unpacked first)'
          : `no header at byte ${at - blockSize}`,
      );
    }
    const size = header.size ?? 0;
    const start = at;
    if (size < 0) {
      throw corrupt(`${header.path ?? 'a member'} has a size below nothing`);
    }
    at += Math.ceil(size / blockSize) * blockSize;
    if (start + size > fileSize) {
      throw corrupt(`it is cut off within ${header.path ?? 'a member'}`);
    }
    switch (header.type) {
      case 'ExtendedHeader':
      case 'OldExtendedHeader':
      case 'NextFileHasLongPath': {
        if (size > extensionLimit) {
          throw corrupt('a name in it is too long');
        }
        const text = (await read(start, size)).toString('utf8');
        extended =
          header.type === 'NextFileHasLongPath'
            ? { ...extended, path: text.replace(/\0.*/s, '') }
            : Pax.parse(text, extended);
        continue;
      }
      case 'File':
      case 'OldFile':
      case 'ContiguousFile': {
        const name = memberName(header.path ?? '', corrupt);
        if (members.has(name)) {
          throw corrupt(`${name} stands in it twice`);
        }
        if (members.size === memberLimit) {
          throw corrupt(`it has more than ${memberLimit} files`);
        }
        members.set(name, { start, size });
        break;
      }
      case 'Link':
      case 'SymbolicLink':
        throw corrupt(`${header.path ?? 'a member'} is a link; an image layout has none`);
      default:
        memberName(header.path ?? '', corrupt);
    }
    extended = undefined;
  }
  return members;
}

function headerOf(block: Buffer, extended: HeaderData | undefined, corrupt: (why: string) => HodError): Header {
  try {
    return new Header(block, 0, extended);
  } catch (error) {
    throw corrupt(`a header cannot be read: ${messageOf(error)}`);
  }
}

function memberName(path: string, corrupt: (why: string) => HodError): string {
  const parts = path.split('/').filter((part) => part !== '.' && part !== '');
  if (path.startsWith('/') || path.includes('\\') || parts.includes('..')) {
    throw corrupt(`the member ${JSON.stringify(path)} leads outside`);
  }
  return parts.join('/');
}
