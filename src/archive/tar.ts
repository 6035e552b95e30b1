import { HodError } from '../core/errors';
import { fileBytes, linkLimit, namesTold, nameWithin, type OpenFile, type OutputFiles, type PlainFile } from './files';
import { FileBlocks, walkTar, type TarCorrupt, type TarMember } from './tar-walk';

/**
 * A build output has one file for each manifest and blob.
 * @limit files in a build output that is a `.tar` | files | `archive-corrupt`
 */
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

/** Where each file of an archive lies. */
async function readMembers(file: OpenFile, corrupt: TarCorrupt): Promise<Map<string, Member>> {
  const members = new Map<string, Member>();
  const blocks = new FileBlocks(file, corrupt);
  await walkTar(blocks, corrupt, async ({ path, kind, link, stored }) => {
    const name = memberName(path, corrupt);
    const member = kind === 'file' ? { start: blocks.at, size: stored } : linkOf(name, kind, link ?? '', corrupt);
    if (blocks.at + stored > file.length) {
      throw corrupt(`it is cut off within ${path}`);
    }
    await blocks.pass(stored);
    if (member === undefined) {
      return;
    }
    if (members.has(name)) {
      throw corrupt(`${name} stands in it twice`);
    }
    if (members.size === memberLimit) {
      throw corrupt(`it has more than ${memberLimit} files`);
    }
    members.set(name, member);
  });
  return members;
}

/** The member that a link leads to; undefined for what is no link. */
function linkOf(
  name: string,
  kind: TarMember['kind'],
  target: string,
  corrupt: TarCorrupt,
): { link: string } | undefined {
  if (kind !== 'hardlink' && kind !== 'symlink') {
    return undefined;
  }
  // A hard link names a member from the top of the archive, a symbolic one from the folder that it is in.
  const from = kind === 'hardlink' ? '' : `${name}/../`;
  const link = target.startsWith('/') ? undefined : nameWithin(`${from}${target}`);
  if (link === undefined) {
    throw corrupt(`${name} is a link to ${JSON.stringify(target)}, which leads outside`);
  }
  return { link };
}

function memberName(path: string, corrupt: TarCorrupt): string {
  const name = path.split('/').includes('..') ? undefined : nameWithin(path);
  if (name === undefined) {
    throw corrupt(`the member ${JSON.stringify(path)} leads outside`);
  }
  return name;
}
