import { rmSync } from 'node:fs';
import { join } from 'node:path';
import { writeLargeLayout } from '../scripts/large-layout.mjs';
import {
  compare,
  configure,
  folder,
  GiB,
  inMegabytes,
  inTurn,
  median,
  MiB,
  publishing,
  quick,
  report,
  runFloor,
  runHod,
  shell,
  withRegistry,
  withTrustingRegistry,
} from './harness.mjs';

const total = quick ? 128 * MiB : GiB;
const layers = 8;
const memoryLimit = 110e6;
const product = join(folder, 'product');

const begin = (port, name) =>
  `loc=$(curl -sS -X POST -D - -o /dev/null http://127.0.0.1:${port}/v2/${name}/blobs/uploads/ | tr -d "\\r" | sed -n "s/^[Ll]ocation: //p"); `;
const addressed = (port, digest) => `"http://127.0.0.1:${port}$loc&digest=${digest}"`;
const putFile = (port, { digest, file }) =>
  `${begin(port, 'skerry/timetable')}curl -sS -f -T ${file} -H "Expect:" ${addressed(port, digest)}`;
const putStream = (port, digest, source) =>
  `${begin(port, 'uat/timetable')}${source} | curl -sS -f -X PUT -T - -H "Expect:" ${addressed(port, digest)}`;

const local = (port) => `127.0.0.1:${port}`;
const sizeName = (bytes) => (bytes >= GiB ? `${bytes / GiB} GiB` : `${bytes / MiB} MiB`);
const wall = ({ seconds }) => seconds;
const cpu = (found) => found.cpu;

function publishTo(port, layout) {
  configure(product, { timetable: layout }, local(port), local(port));
  return runHod(product, ...publishing);
}

/** Publishing and copying the same bytes, beside curl and the leanest program. */
export async function measureTransfers() {
  const layout = join(folder, 'image');
  const blobs = writeLargeLayout(layout, total, layers);
  const name = `publish ${sizeName(total)} in ${layers} layers`;
  const floorPut = (port, hash) => runFloor('publish', { port, name: 'skerry/timetable', blobs, hash });

  const [curl, lean, own] = await inTurn([
    () => withRegistry((port) => shell(blobs.map((blob) => putFile(port, blob)))),
    () => withRegistry((port) => floorPut(port, false)),
    () => withRegistry((port) => publishTo(port, layout)),
  ]);
  compare(name, 'curl PUT', curl, own, wall, 1.1);
  compare(name, 'floor', lean, own, wall, 1.15);
  compare(`${name}, CPU`, 'floor', lean, own, cpu, 1.15);

  const [hashing, unchecked] = await inTurn([
    () => withTrustingRegistry((port) => floorPut(port, true)),
    () => withTrustingRegistry((port) => publishTo(port, layout)),
  ]);
  compare(`${name}, to one that does not check`, 'floor with hash', hashing, unchecked, wall, 1.15);

  await withRegistry(async (port) => {
    publishTo(port, layout);
    const { transfer } = runHod(product, ...publishing).document.images[0];
    const { requests, bytesSent } = transfer;
    const reached = requests <= 3 && bytesSent === 0;
    report(
      'publish again, unchanged',
      '–',
      `${requests} requests, ${bytesSent} bytes`,
      '–',
      '≤ 3 an image, 0',
      reached,
    );
  });

  await withRegistry(async (from) => {
    publishTo(from, layout);
    const source = ({ digest }) => `curl -sS -f http://127.0.0.1:${from}/v2/skerry/timetable/blobs/${digest}`;
    const place = { from, source: 'skerry/timetable', name: 'uat/timetable', blobs, hash: false };
    const [curlCopy, leanCopy, ownCopy] = await inTurn([
      () => withRegistry((to) => shell(blobs.map((blob) => putStream(to, blob.digest, source(blob))))),
      () => withRegistry((port) => runFloor('copy', { ...place, port })),
      () =>
        withRegistry((to) => {
          configure(product, { timetable: layout }, local(from), local(to));
          runHod(product, ...publishing);
          return runHod(product, 'promote', 'uat');
        }),
    ]);
    compare('promote across registries', 'curl GET | curl PUT', curlCopy, ownCopy, wall, 1.1);
    compare('promote across registries', 'floor', leanCopy, ownCopy, wall);
    compare('promote across registries, CPU', 'floor', leanCopy, ownCopy, cpu);
    const peak = Math.max(...ownCopy.map((each) => each.peak));
    report('peak memory of that', '–', inMegabytes(peak), '–', '≤ 110 MB', peak <= memoryLimit);
  });
  rmSync(layout, { recursive: true });
}

/** What is held in memory must not depend on what is sent. */
export async function measureMemory() {
  let first;
  for (const times of quick ? [1, 4] : [1, 4, 16]) {
    const layout = join(folder, 'large');
    writeLargeLayout(layout, times * total, layers);
    const peaks = [];
    for (let round = 0; round < (times > 1 ? 1 : 3); round += 1) {
      peaks.push(await withRegistry((port) => publishTo(port, layout).peak));
    }
    rmSync(layout, { recursive: true });
    const peak = median(peaks);
    first ??= peak;
    const ratio = `× ${(peak / first).toFixed(2)}`;
    const work = `peak memory, ${sizeName(times * total)} in ${layers} layers`;
    report(work, inMegabytes(first), inMegabytes(peak), ratio, '≤ 110 MB, flat', peak <= memoryLimit);
  }
}
