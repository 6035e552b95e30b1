import { join } from 'node:path';
import { writeFleet } from './fleet.mjs';
import {
  compare,
  configure,
  folder,
  inSeconds,
  inTurn,
  jobs,
  median,
  publishing,
  quick,
  report,
  runFloor,
  runHod,
  withDistance,
  withRegistry,
} from './harness.mjs';

/** So many small requests go out at once. */
const atOnce = 4 * jobs;
const product = join(folder, 'far');
const tags = ['c-111111111111', '1.0.0', 'main'];
/** The least requests for an image of three platforms that is promoted within a registry: read an index and three manifests, mount nine blobs, write three manifests, and look for, write and read back two tags. */
const leastPromotion = 4 + 9 + 3 + 3 * 2;
const works = [
  ['publish', publishing],
  ['publish again', publishing],
  ['promote within a registry', ['promote', 'uat']],
  ['status', ['status']],
];

/** Many small images on a registry that is far away: beside what the round trips alone would take. */
export async function measureDistances() {
  const images = quick ? 10 : 50;
  const names = writeFleet(join(folder, 'fleet'), images);
  for (const milliseconds of [0, 20, 100]) {
    await measureDistance(names, milliseconds);
  }
}

async function measureDistance(names, milliseconds) {
  const far = (work) => () => withRegistry((port) => withDistance(port, milliseconds, work));
  const [lean, day] = await inTurn([
    far((host, _, authority) =>
      runFloor('fleet', { host, authority, folder: join(folder, 'fleet'), images: names, tags, jobs: atOnce }),
    ),
    far(async (host, counted, authority) => {
      const places = Object.fromEntries(names.map((name) => [name, join(folder, 'fleet', name)]));
      configure(product, places, host, host, `registries: { "${host}": { tls: { ca: ${authority} } } }\n`);
      const found = [];
      for (const [, args] of works) {
        const { seconds, cpu } = runHod(product, ...args);
        found.push({ seconds, cpu, ...(await counted()) });
      }
      return found;
    }),
  ]);
  const size = `${names.length} images × 3 platforms at ${milliseconds} ms`;
  const published = day.map(([publish]) => publish);
  compare(`publish ${size}`, 'floor, the same requests', lean, published, ({ seconds }) => seconds);
  for (const [at, [name]] of works.entries()) {
    reportWork(
      `${name}, ${size}`,
      name,
      day.map((each) => each[at]),
      milliseconds,
      names.length,
    );
  }
}

function reportWork(work, name, found, milliseconds, images) {
  const of = (key) => median(found.map((each) => each[key]));
  const [requests, seconds] = [of('requests'), of('seconds')];
  const waiting = (requests * milliseconds) / atOnce / 1000;
  const limit = name === 'publish again' || name === 'status' ? 1.3 : 1.5;
  const said = `${inSeconds(seconds)}, ${inSeconds(of('cpu'))} of CPU, ${requests} requests`;
  if (milliseconds > 0) {
    const ratio = seconds / waiting;
    report(work, `${inSeconds(waiting)} of round trips`, said, `× ${ratio.toFixed(2)}`, `≤ × ${limit}`, ratio <= limit);
    return;
  }
  report(work, '–', said, '–', '–');
  const connections = Math.max(...found.map((each) => each.connections));
  report(`connections of that`, '–', String(connections), '–', '≤ 24', connections <= 24);
  if (name === 'promote within a registry') {
    const least = leastPromotion * images;
    const ratio = requests / least;
    report(
      'requests of that',
      `${least}, the least`,
      String(requests),
      `× ${ratio.toFixed(2)}`,
      '≤ × 1.05',
      ratio <= 1.05,
    );
  }
  if (name === 'publish again') {
    const reached = requests <= 3 * images && of('cpu') <= 0.6;
    report('CPU of that', '–', inSeconds(of('cpu')), '–', '≤ 3 requests an image, 0.6 s', reached);
  }
}
