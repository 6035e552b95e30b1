import { Header, type HeaderData } from 'tar/header';
import { Pax } from 'tar/pax';
import { HodError, messageOf } from '../core/errors';
import { fileBytes, linkLimit, namesTold, nameWithin, type OpenFile, type OutputFiles, type PlainFile } from './files';

const blockSize = 512;
/** The longest extended header to read: path names, not content. */
const extensionLimit = 1024 * 1024;
/** More files than any build output has: it has one for each manifest and blob. */
const memberLimit = 100_000;

/** Where the bytes of a file begin in the archive, and how many they are. */
interface Place {
  start: number;
  size: number;
}

/** A file, or the name of another that it is a link to. */
type Member = Place | { link: string };

/**
 * The files of a build output that is a .tar. One walk over the headers, skipping the content,
 * finds where each file lies, so members may stand in any order. A link to another member is that member.
 *
 * Throws `corrupt` for members and links whose names lead outside, for members that stand twice, or that are cut off.
 */
export async function tarFiles(file: PlainFile): Promise<OutputFiles> {
  const open = await file.open();
  const corrupt = (why: string): HodError =>
    new HodError('archive-corrupt', {
      what: 'this .tar cannot be read',
      object: file.label,
      why,
      next: 'write it again',
    });
  const members = await readMembers(open, corrupt).finally(() => open.close());
  const find = (name: string): Place | undefined => {
    let found = members.get(name);
    for (let links = 0; found !== undefined && 'link' in found; links += 1) {
      const { link } = found;
      found = members.get(link);
      if (found === undefined || links === linkLimit) {
        throw corrupt(`${name} is a link to ${link}, and that leads to no file in it`);
      }
    }
    return found;
  };
  return {
    label: file.label,
    names: () => Promise.resolve([...members.keys()].slice(0, namesTold)),
    size: async (name) => Promise.resolve(find(name)?.size),
    open(name, from = 0) {
      const { start, size } = find(name) ?? { start: 0, size: 0 };
      return fileBytes(file, { start: start + from, size: Math.max(0, size - from) });
    },
  };
}

/** Whether the first block of a file is that of a .tar: its sum holds, or it is the end of an archive without members. */
export function beginsTar(block: Buffer): boolean {
  if (block.length < blockSize) {
    return false;
  }
  const sum = Number.parseInt(block.toString('latin1', 148, 156).replace(/^[\0 ]+/, ''), 8);
  // The sum counts its own field as blanks.
  const all = block.reduce((total, byte, at) => total + (at >= 148 && at < 156 ? 0x20 : byte), 0);
  return sum === all || block.every((byte) => byte === 0);
}

async function readMembers(file: OpenFile, corrupt: (why: string) => HodError): Promise<Map<string, Member>> {
  const members = new Map<string, Member>();
  const read = async (start: number, length: number): Promise<Buffer> => {
    const buffer = Buffer.alloc(length);
    if ((await file.read(buffer, length, start)) < length) {
      throw corrupt('it is cut off');
    }
    return buffer;
  };
  const add = (name: string, member: Member): void => {
    if (members.has(name)) {
      throw corrupt(`${name} stands in it twice`);
    }
    if (members.size === memberLimit) {
      throw corrupt(`it has more than ${memberLimit} files`);
    }
    members.set(name, member);
  };

  let extended: HeaderData | undefined;
  for (let at = 0; at + blockSize <= file.length;) {
    const block = await read(at, blockSize);
    const header = headerOf(block, extended, corrupt);
    at += blockSize;
    if (header.nullBlock) {
      continue;
    }
    if (!header.cksumValid) {
      throw corrupt(`no header at byte ${at - blockSize}`);
    }
    const size = header.size ?? 0;
    const start = at;
    if (size < 0) {
      throw corrupt(`${header.path ?? 'a member'} has a size below nothing`);
    }
    at += Math.ceil(size / blockSize) * blockSize;
    if (start + size > file.length) {
      throw corrupt(`it is cut off within ${header.path ?? 'a member'}`);
    }
    switch (header.type) {
      case 'ExtendedHeader':
      case 'OldExtendedHeader':
      case 'NextFileHasLongPath':
      case 'NextFileHasLongLinkpath': {
        if (size > extensionLimit) {
          throw corrupt('a name in it is too long');
        }
        const text = (await read(start, size)).toString('utf8');
        const name = text.replace(/\0.*/s, '');
        extended =
          header.type === 'NextFileHasLongPath'
            ? { ...extended, path: name }
            : header.type === 'NextFileHasLongLinkpath'
              ? { ...extended, linkpath: name }
              : Pax.parse(text, extended);
        continue;
      }
      case 'File':
      case 'OldFile':
      case 'ContiguousFile': {
        add(memberName(header.path ?? '', corrupt), { start, size });
        break;
      }
      case 'Link':
      case 'SymbolicLink': {
        // A hard link names a member from the top of the archive, a symbolic one from the folder that it is in.
        const name = memberName(header.path ?? '', corrupt);
        // The package does not put a longer name from an extended header into its place.
        const target = extended?.linkpath ?? header.linkpath ?? '';
        const from = header.type === 'Link' ? '' : `${name}/../`;
        const link = target.startsWith('/') ? undefined : nameWithin(`${from}${target}`);
        if (link === undefined) {
          throw corrupt(`${name} is a link to ${JSON.stringify(target)}, which leads outside`);
        }
        add(name, { link });
        break;
      }
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
  const name = path.split('/').includes('..') ? undefined : nameWithin(path);
  if (name === undefined) {
    throw corrupt(`the member ${JSON.stringify(path)} leads outside`);
  }
  return name;
}
