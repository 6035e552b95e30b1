import { Header } from 'tar/header';
import { Pax } from 'tar/pax';

const blockSize = 512;
/** Everything that Hod packs bears this time: the same files give the same bytes. */
const epoch = new Date(0);

/** The header of a plain file in a .tar (POSIX.1-2001 pax), which nobody owns. */
export function tarHeader({
  name,
  size,
  executable = false,
}: {
  readonly name: string;
  readonly size: number;
  readonly executable?: boolean;
}): Buffer {
  const fields = { path: name, mode: executable ? 0o755 : 0o644, uid: 0, gid: 0, size, mtime: epoch };
  const header = new Header({ ...fields, type: 'File', linkpath: '', uname: '', gname: '', devmaj: 0, devmin: 0 });
  const block = Buffer.alloc(blockSize);
  const extended = header.encode(block, 0) ? [new Pax({ path: name, size, mtime: epoch }).encode()] : [];
  return Buffer.concat([...extended, block]);
}

/** What fills the last block of a file of so many bytes. */
export function tarPadding(size: number): Buffer {
  return Buffer.alloc((blockSize - (size % blockSize)) % blockSize);
}

/** The end of a .tar. */
export function tarEnd(): Buffer {
  return Buffer.alloc(2 * blockSize);
}
