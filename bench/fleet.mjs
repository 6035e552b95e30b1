import { createHash } from 'node:crypto';
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';

const platforms = ['amd64', 'arm64', 'riscv64'];
const types = {
  index: 'application/vnd.oci.image.index.v1+json',
  manifest: 'application/vnd.oci.image.manifest.v1+json',
  config: 'application/vnd.oci.image.config.v1+json',
  layer: 'application/vnd.oci.image.layer.v1.tar',
};

/** Writes the image layouts of so many small images for three platforms, each with a config and two layers. Answers their names. */
export function writeFleet(folder, count, layers = 2) {
  return Array.from({ length: count }, (_, at) => {
    const name = `image-${at}`;
    const path = join(folder, name);
    const blobs = join(path, 'blobs', 'sha256');
    mkdirSync(blobs, { recursive: true });
    const add = (mediaType, content) => {
      const text = typeof content === 'string' ? content : JSON.stringify(content);
      const hex = createHash('sha256').update(text).digest('hex');
      writeFileSync(join(blobs, hex), text);
      return { mediaType, digest: `sha256:${hex}`, size: Buffer.byteLength(text) };
    };
    const manifests = platforms.map((architecture) => {
      const config = add(types.config, { os: 'linux', architecture, author: name });
      const own = Array.from({ length: layers }, (_, layer) =>
        add(types.layer, `${name} ${architecture} ${layer}`.repeat(100)),
      );
      const manifest = { schemaVersion: 2, mediaType: types.manifest, config, layers: own };
      return { ...add(types.manifest, manifest), platform: { os: 'linux', architecture } };
    });
    const root = add(types.index, { schemaVersion: 2, mediaType: types.index, manifests });
    writeFileSync(join(path, 'oci-layout'), '{"imageLayoutVersion":"1.0.0"}');
    writeFileSync(join(path, 'index.json'), JSON.stringify({ schemaVersion: 2, manifests: [root] }));
    return name;
  });
}
