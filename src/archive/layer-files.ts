import { posix } from 'node:path';
import { HodError } from '../core/errors';
import { annotationKeys } from '../core/oci/annotations';
import { kindOf } from '../core/oci/bundle';
import { verified, type ContentNode } from '../core/oci/content';
import { leadsOut, nameParts } from '../core/oci/layer-names';
import type { FolderWriter } from '../system/write-folder';
import { pathLimit, unpackedLimit } from './layer-entries';
import { StreamBlocks, walkTar, type TarMember } from './tar-walk';
import { unpacked } from './unpack';

/** What was unpacked: files, and bytes of them. */
export interface UnpackedFiles {
  readonly files: number;
  readonly size: number;
}

/**
 * The names are held in memory.
 * @limit files and folders that one artifact unpacks to | files | `archive-corrupt`
 */
const fileLimit = 1_000_000;
/**
 * The names are held in memory.
 * @limit names of all files of one artifact | characters | `archive-corrupt`
 */
const characterLimit = 64 * 1024 ** 2;

/**
 * Writes the files of a bundle, or of another artifact whose layers are files: a layer with a title is the file of that name
 * (OCI image specification, annotations.md, `org.opencontainers.image.title`), one without is a .tar of files, as is that of a bundle.
 * Every byte is checked against its digest before the end.
 *
 * @param below The folder that they go into, within the one that is written.
 * @throws {@link HodError} `not-files` for an image; `unsafe-archive` for what would be written elsewhere, and for links and
 * devices; `archive-corrupt`, `content-corrupt`
 */
export async function writeFilesOf(
  { manifest, source }: ContentNode,
  writer: FolderWriter,
  below: string,
): Promise<UnpackedFiles> {
  const kind = kindOf(manifest);
  if (kind === 'image' || manifest.kind === 'index') {
    throw new HodError('not-files', {
      what: kind === 'image' ? 'an image is not unpacked' : 'an index of artifacts is not unpacked',
      object: `${source.label}@${manifest.digest}`,
      why: 'unpack writes the files of a bundle, or of an artifact whose layers are files',
      next: 'write an image as an image layout: `hod pack REF --out PLACE`; look into it with `hod inside REF`',
    });
  }
  const names = new Names(writer, below);
  for (const layer of manifest.layers) {
    const label = `${layer.digest} of ${source.label}`;
    const bytes = verified(await source.openBlob(layer), layer, source.label);
    const title = kind === 'bundle' ? undefined : layer.annotations?.get(annotationKeys.title);
    if (title === undefined) {
      await writeMembers(unpacked(bytes, label), names, label);
    } else {
      await names.file(title, bytes, { label, executable: false });
    }
  }
  return names.written;
}

/** Takes files by their names, each once, and none that leads elsewhere. */
class Names {
  private readonly files = new Set<string>();
  private readonly folders = new Set<string>();
  private size = 0;
  private characters = 0;

  constructor(
    private readonly writer: FolderWriter,
    private readonly below: string,
  ) {}

  get written(): UnpackedFiles {
    return { files: this.files.size, size: this.size };
  }

  async file(
    name: string,
    content: AsyncIterable<Uint8Array>,
    { label, executable }: { readonly label: string; readonly executable: boolean },
  ): Promise<void> {
    const parts = this.take(name, label);
    const path = parts.join('/');
    if (parts.length === 0) {
      throw unsafe(label, 'a file in it has no name');
    }
    if (this.files.has(path) || this.folders.has(path)) {
      throw unsafe(label, `two things in it are called ${path}`);
    }
    this.files.add(path);
    this.size += await this.writer.file(posix.join(this.below, path), content, {
      executable,
    });
  }

  async folder(name: string, label: string): Promise<void> {
    const parts = this.take(`${name}/.`, label);
    if (parts.length > 0) {
      await this.writer.folder(posix.join(this.below, ...parts));
    }
  }

  /** The parts of a name; remembers the folders that it leads through. */
  private take(name: string, label: string): string[] {
    if (name.startsWith('/') || leadsOut(name) || name.split('/').includes('..') || name.includes('\0')) {
      throw unsafe(label, `${JSON.stringify(name)} leads out of the folder`);
    }
    if (name.length > pathLimit) {
      throw unsafe(label, `a path in it has more than ${pathLimit} characters`);
    }
    const parts = nameParts(name);
    // From the deepest up: what leads to a folder that is known is known.
    for (let count = name.endsWith('/.') ? parts.length : parts.length - 1; count > 0; count -= 1) {
      const folder = parts.slice(0, count).join('/');
      if (this.folders.has(folder)) {
        break;
      }
      if (this.files.has(folder)) {
        throw unsafe(label, `${folder} is a file and a folder`);
      }
      this.folders.add(folder);
      this.characters += folder.length;
    }
    this.characters += name.length;
    if (this.files.size + this.folders.size > fileLimit || this.characters > characterLimit) {
      throw unsafe(
        label,
        `it holds more than ${fileLimit} files and folders, or longer names than ${characterLimit} in all`,
      );
    }
    return parts;
  }
}

async function writeMembers(bytes: AsyncIterable<Uint8Array>, names: Names, label: string): Promise<void> {
  const corrupt = (why: string): HodError =>
    new HodError('archive-corrupt', { what: 'a layer cannot be read', object: label, why, next: 'publish it again' });
  const blocks = new StreamBlocks(bytes, corrupt, unpackedLimit);
  await walkTar(blocks, corrupt, async (member) => {
    const { kind, path, mode, stored, size } = member;
    if (kind === 'folder') {
      await names.folder(path, label);
    } else if (kind === 'file' && stored === size) {
      await names.file(path, blocks.content(stored), { label, executable: (mode & 0o100) !== 0 });
    } else {
      throw unsafe(label, `${path} is ${wordsFor(member)}`);
    }
  });
}

function wordsFor({ kind, link }: TarMember): string {
  return kind === undefined
    ? 'of an unknown kind'
    : kind === 'file'
      ? 'a file with holes'
      : `a ${kind}${link === undefined ? '' : ` to ${link}`}`;
}

function unsafe(object: string, why: string): HodError {
  return new HodError('unsafe-archive', {
    what: 'this does not hold plain files alone',
    object,
    why,
    next: 'ask who made it; nothing was written',
  });
}
