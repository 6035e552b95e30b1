import { createHash } from 'node:crypto';
import { HodError } from '../core/errors';
import { lookedAt, looksSecret } from '../core/oci/concerns';
import { leadsOut, nameParts } from '../core/oci/layer-names';
import type { LayerMember } from '../core/oci/layer-tree';
import { StreamBlocks, walkTar, type TarBlocks, type TarMember } from './tar-walk';

/** A member of a layer, and what is to be said of it. */
export interface ReadMember extends LayerMember {
  readonly secret: boolean;
  /** Its name, or what it links to as a hard link, leads out of the root. */
  readonly leadsOut: boolean;
}

/**
 * Linux takes no longer path.
 * @limit a path or a link in a layer | characters | `archive-corrupt`
 */
export const pathLimit = 4096;
/**
 * A compressed layer of a few megabytes can unpack without end.
 * @limit one layer, unpacked | bytes | `archive-corrupt`
 */
export const unpackedLimit = 256 * 1024 ** 3;

/**
 * Reads the members of a layer, which is a .tar: nothing of their content is kept. Returns how many bytes the layer has.
 *
 * `hashing`: hashes the content of each file.
 *
 * @throws `archive-corrupt` where it is none, is cut off, or is larger than any layer.
 */
export async function readLayer(
  bytes: AsyncIterable<Uint8Array>,
  { label, hashing, member: tell }: { label: string; hashing: boolean; member: (found: ReadMember) => void },
): Promise<number> {
  const corrupt = (why: string): HodError =>
    new HodError('archive-corrupt', {
      what: 'a layer cannot be read',
      object: label,
      why,
      next: 'build the image again',
    });
  const blocks = new StreamBlocks(bytes, corrupt, unpackedLimit);
  const looked = Buffer.alloc(lookedAt);
  await walkTar(blocks, corrupt, async (member) => {
    const { path, link = '' } = member;
    const { beginning, content } = await readContent(member, blocks, { hashing, looked });
    if (path.length > pathLimit || link.length > pathLimit) {
      const what = path.length > pathLimit ? 'a path in it has' : 'a link in it leads to';
      throw corrupt(`${what} more than ${pathLimit} characters`);
    }
    const { kind, mode, size } = member;
    if (kind !== undefined) {
      tell({
        path: nameParts(path).join('/'),
        kind,
        size: kind === 'file' ? size : 0,
        mode,
        link: member.link,
        content,
        secret: kind === 'file' && looksSecret(path, beginning),
        leadsOut: leadsOut(path) || (kind === 'hardlink' && leadsOut(link)),
      });
    }
  });
  return blocks.length;
}

/** Passes the content of a member. Answers its beginning, which lies in `looked`, and its digest where it is asked for. */
async function readContent(
  { kind, stored }: TarMember,
  blocks: TarBlocks,
  { hashing, looked }: { readonly hashing: boolean; readonly looked: Buffer },
): Promise<{ beginning: Buffer; content: string | undefined }> {
  const holds = kind === 'file';
  const hash = hashing && holds ? createHash('sha256') : undefined;
  const beginning = looked.subarray(0, holds ? Math.min(stored, lookedAt) : 0);
  await blocks.pass(stored, (piece, at) => {
    hash?.update(piece);
    if (at < beginning.length) {
      beginning.set(piece.subarray(0, beginning.length - at), at);
    }
  });
  return { beginning, content: hash?.digest('hex') };
}
