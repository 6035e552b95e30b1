import { createHash, randomFillSync } from 'node:crypto';
import { mkdir, open, rename, writeFile } from 'node:fs/promises';
import { join } from 'node:path';

const pieceSize = 1024 * 1024;

/** Writes an image layout of one image whose one layer has `size` bytes (a multiple of 1 MiB). Answers the layer's digest. */
export async function writeLargeLayout(folder: string, size: number): Promise<string> {
  const blobs = join(folder, 'blobs', 'sha256');
  await mkdir(blobs, { recursive: true });
  const piece = randomFillSync(Buffer.alloc(pieceSize));
  const hash = createHash('sha256');
  const file = await open(join(folder, 'layer'), 'w');
  for (let at = 0; at < size; at += pieceSize) {
    piece.writeUInt32LE(at / pieceSize);
    hash.update(piece);
    await file.write(piece);
  }
  await file.close();
  const layer = hash.digest('hex');
  await rename(join(folder, 'layer'), join(blobs, layer));

  const add = async (mediaType: string, document: object) => {
    const text = JSON.stringify(document);
    const hex = createHash('sha256').update(text).digest('hex');
    await writeFile(join(blobs, hex), text);
    return { mediaType, digest: `sha256:${hex}`, size: Buffer.byteLength(text) };
  };
  const config = await add('application/vnd.oci.image.config.v1+json', { os: 'linux', architecture: 'amd64' });
  const layers = [{ mediaType: 'application/vnd.oci.image.layer.v1.tar', digest: `sha256:${layer}`, size }];
  const mediaType = 'application/vnd.oci.image.manifest.v1+json';
  const manifest = await add(mediaType, { schemaVersion: 2, mediaType, config, layers });
  await writeFile(join(folder, 'oci-layout'), '{"imageLayoutVersion":"1.0.0"}');
  await writeFile(join(folder, 'index.json'), JSON.stringify({ schemaVersion: 2, manifests: [manifest] }));
  return `sha256:${layer}`;
}
