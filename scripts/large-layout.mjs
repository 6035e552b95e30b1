import { createHash, randomFillSync } from 'node:crypto';
import { closeSync, mkdirSync, openSync, renameSync, writeFileSync, writeSync } from 'node:fs';
import { join } from 'node:path';

const MiB = 1024 * 1024;

/** Writes an image layout whose layers hold `size` bytes in all. Answers the layers' digests and files. */
export function writeLargeLayout(path, size, count) {
  const blobs = join(path, 'blobs', 'sha256');
  mkdirSync(blobs, { recursive: true });
  const piece = randomFillSync(Buffer.alloc(MiB));
  const found = [];
  for (let layer = 0; layer < count; layer += 1) {
    const hash = createHash('sha256');
    const file = openSync(join(path, 'layer'), 'w');
    for (let at = 0; at < size / count; at += MiB) {
      piece.writeUInt32LE(layer, 0);
      piece.writeUInt32LE(at / MiB, 4);
      hash.update(piece);
      writeSync(file, piece);
    }
    closeSync(file);
    const hex = hash.digest('hex');
    renameSync(join(path, 'layer'), join(blobs, hex));
    found.push({ digest: `sha256:${hex}`, size: size / count, file: join(blobs, hex) });
  }
  const add = (mediaType, document) => {
    const text = JSON.stringify(document);
    const hex = createHash('sha256').update(text).digest('hex');
    writeFileSync(join(blobs, hex), text);
    return { mediaType, digest: `sha256:${hex}`, size: Buffer.byteLength(text) };
  };
  const config = add('application/vnd.oci.image.config.v1+json', { os: 'linux', architecture: 'amd64' });
  const mediaType = 'application/vnd.oci.image.manifest.v1+json';
  const described = found.map(({ digest, size }) => ({
    mediaType: 'application/vnd.oci.image.layer.v1.tar',
    digest,
    size,
  }));
  const manifest = add(mediaType, { schemaVersion: 2, mediaType, config, layers: described });
  writeFileSync(join(path, 'oci-layout'), '{"imageLayoutVersion":"1.0.0"}');
  writeFileSync(join(path, 'index.json'), JSON.stringify({ schemaVersion: 2, manifests: [manifest] }));
  return found;
}
