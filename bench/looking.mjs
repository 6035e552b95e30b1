import { createHash, randomFillSync } from 'node:crypto';
import { createReadStream, createWriteStream, mkdirSync, renameSync, rmSync, statSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { createGzip } from 'node:zlib';
import { folder, GiB, inMegabytes, inSeconds, inTurn, median, MiB, quick, report, runHod, timed } from './harness.mjs';

const layers = 8;
const entries = quick ? 20_000 : 200_000;
const bytes = quick ? 256 * MiB : 2 * GiB;
const memoryLimit = 200e6;
const speedGoal = 0.8;

/** What looking into an image takes, beside listing its layers with public tools. */
export async function measureLooking() {
  const layout = join(folder, 'looked-into');
  const files = await writeLayers(layout);
  const listing = files.map((file) => `gzip -dc ${file} | tar t`).join('; ');
  const [tools, own] = await inTurn([
    () => timed(['bash', '-c', `{ ${listing}; } > ${join(folder, 'listing')}`]),
    () => runHod(folder, 'inside', layout),
  ]);
  const speed = median(own.map((each, at) => tools[at].seconds / each.seconds));
  const work = `inside, ${entries} entries in ${bytes / MiB} MiB of ${layers} layers`;
  const yardstick = `gzip -dc | tar t ${inSeconds(median(tools.map((each) => each.seconds)))}`;
  const measured = inSeconds(median(own.map((each) => each.seconds)));
  report(work, yardstick, measured, `${speed.toFixed(2)} × as fast`, `≥ ${speedGoal} ×`, speed >= speedGoal);
  const peak = Math.max(...own.map((each) => each.peak));
  report('peak memory of that', '–', inMegabytes(peak), '–', `≤ ${memoryLimit / 1e6} MB`, peak <= memoryLimit);
  rmSync(layout, { recursive: true });
}

/** Writes an image layout of compressed layers with many files each. Answers the files of the layers. */
async function writeLayers(layout) {
  const blobs = join(layout, 'blobs', 'sha256');
  mkdirSync(blobs, { recursive: true });
  // Half noise, half text: about what programs and their data are.
  const content = Buffer.alloc(4 * MiB, 'sailings of the Skerry Line, summer and winter; ');
  for (let at = 0; at < content.length; at += 8192) {
    randomFillSync(content, at, 4096);
  }
  const described = [];
  for (let layer = 0; layer < layers; layer += 1) {
    const file = join(layout, 'layer');
    await pipeline(Readable.from(tarOf(layer, content)), createGzip({ level: 6 }), createWriteStream(file));
    const hash = createHash('sha256');
    await pipeline(createReadStream(file), hash);
    const hex = hash.digest('hex');
    described.push({ hex, size: statSync(file).size });
    renameSync(file, join(blobs, hex));
  }
  const add = (mediaType, document) => {
    const text = JSON.stringify(document);
    const hex = createHash('sha256').update(text).digest('hex');
    writeFileSync(join(blobs, hex), text);
    return { mediaType, digest: `sha256:${hex}`, size: Buffer.byteLength(text) };
  };
  const type = (name) => `application/vnd.oci.image.${name}`;
  const config = add(type('config.v1+json'), { os: 'linux', architecture: 'amd64' });
  const own = described.map(({ hex, size }) => ({
    mediaType: type('layer.v1.tar+gzip'),
    digest: `sha256:${hex}`,
    size,
  }));
  const manifest = add(type('manifest.v1+json'), {
    schemaVersion: 2,
    mediaType: type('manifest.v1+json'),
    config,
    layers: own,
  });
  writeFileSync(join(layout, 'oci-layout'), '{"imageLayoutVersion":"1.0.0"}');
  writeFileSync(join(layout, 'index.json'), JSON.stringify({ schemaVersion: 2, manifests: [manifest] }));
  return described.map(({ hex }) => join(blobs, hex));
}

/** A .tar of many files; those of later layers stand in the place of some of earlier ones. */
function* tarOf(layer, content) {
  const count = entries / layers;
  const size = Math.floor(bytes / entries) - 512;
  for (let at = 0; at < count; at += 1) {
    const name = `usr/lib/part-${((at + layer * count * 0.9) % 400) | 0}/package-${at % 37}/file-${Math.floor(at + layer * count * 0.9)}.bin`;
    yield headerOf(name, size);
    const start = ((at * 7919 + layer) * 512) % (content.length - size);
    yield content.subarray(start, start + size);
    yield Buffer.alloc((512 - (size % 512)) % 512);
  }
  yield Buffer.alloc(1024);
}

/** The header of a file (POSIX.1-1988 ustar). */
function headerOf(name, size) {
  const block = Buffer.alloc(512);
  block.write(name, 0);
  block.write('0000644\0', 100);
  block.write(`${size.toString(8).padStart(11, '0')}\0`, 124);
  block.write('0', 156);
  block.write('ustar\0', 257);
  block.write('00', 263);
  block.fill(' ', 148, 156);
  const sum = block.reduce((all, byte) => all + byte, 0);
  block.write(`${sum.toString(8).padStart(6, '0')}\0 `, 148);
  return block;
}
