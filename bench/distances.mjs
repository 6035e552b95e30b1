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
  root,
  rounds,
  runFloor,
  runHod,
  withDistance,
  withRegistry,
} from './harness.mjs';
import { drawDistances } from './plot.mjs';

/** So many small requests go out at once. */
const atOnce = 4 * jobs;
const product = join(folder, 'far');
const tags = ['c-111111111111', '1.0.0', 'main'];
/**
 * The least requests for an image of three platforms that is promoted within a registry: read an index and three
 * manifests, mount nine blobs, write three manifests, and look for, write and read back two tags.
 */
// What belongs to an image, where the registry lists nothing by itself: ask it for its list, list the tags of the source and read the
// list under a tag there; mount the record of the release and write its manifest; read the list here, write it, and read it back.
const leastPromotion = 4 + 9 + 3 + 3 * 2 + 3 + 2 + 3;
const works = [
  { name: 'publish', args: publishing, limit: 1.5 },
  { name: 'publish again', args: publishing, limit: 1.3 },
  { name: 'promote within the registry', args: ['promote', 'uat'], limit: 1.5 },
  { name: 'status', args: ['status'], limit: 1.3 },
];

/** Many small images on a registry that is far away: beside what the round trips alone would take. */
export async function measureDistances() {
  const most = quick ? 6 : 50;
  const names = writeFleet(join(folder, 'fleet'), most);
  const points = [];
  for (const [images, milliseconds] of [
    [most, 0],
    [Math.round(most / 5), 20],
    [Math.round(most / 2), 20],
    [most, 20],
    [most, 100],
  ]) {
    const found = await measureDistance(names.slice(0, images), milliseconds, images === most);
    points.push(...Object.entries(found).map(([what, seconds]) => ({ images, milliseconds, what, seconds })));
  }
  await drawDistances(points, join(quick ? folder : join(root, 'docs'), 'performance.svg'));
}

/** Answers the seconds of a publication, of the leanest program, and of the round trips. */
async function measureDistance(names, milliseconds, reported) {
  const far = (work) => () => withRegistry((port) => withDistance(port, milliseconds, work));
  const fleet = { folder: join(folder, 'fleet'), images: names, tags, jobs: atOnce };
  const [lean, day] = await inTurn(
    [
      far((host, _, authority) => runFloor('fleet', { ...fleet, host, authority })),
      far(async (host, counted, authority) => {
        const places = Object.fromEntries(names.map((name) => [name, join(folder, 'fleet', name)]));
        configure(product, places, host, host, `registries: { "${host}": { tls: { ca: ${authority} } } }\n`);
        const found = [];
        for (const { args } of works) {
          const { seconds, cpu } = runHod(product, ...args);
          found.push({ seconds, cpu, ...(await counted()) });
        }
        return found;
      }),
    ],
    Math.min(rounds, 3),
  );
  const published = day.map(([publish]) => publish);
  if (reported) {
    const size = `${names.length} images × 3 platforms at ${milliseconds} ms`;
    compare(`publish ${size}`, 'the same requests, leanest', lean, published, ({ seconds }) => seconds);
    works.forEach((work, at) =>
      reportWork(
        work,
        size,
        day.map((each) => each[at]),
        milliseconds,
        names.length,
      ),
    );
  }
  return {
    Hod: median(published.map(({ seconds }) => seconds)),
    'the same requests, leanest': median(lean.map(({ seconds }) => seconds)),
    'round trips alone': waitingFor(median(published.map(({ requests }) => requests)), milliseconds),
  };
}

/** Seconds that so many requests take that wait for nothing but their round trip. */
function waitingFor(requests, milliseconds) {
  return (requests * milliseconds) / atOnce / 1000;
}

function reportWork({ name, limit }, size, found, milliseconds, images) {
  const work = `${name}, ${size}`;
  const of = (key) => median(found.map((each) => each[key]));
  const [requests, seconds, cpu] = [of('requests'), of('seconds'), of('cpu')];
  const said = `${inSeconds(seconds)}, ${inSeconds(cpu)} of CPU, ${requests} requests`;
  if (milliseconds > 0) {
    const waiting = waitingFor(requests, milliseconds);
    const ratio = seconds / waiting;
    report(work, `round trips ${inSeconds(waiting)}`, said, `× ${ratio.toFixed(2)}`, `≤ × ${limit}`, ratio <= limit);
    return;
  }
  report(work, '–', said, '–', '–');
  const connections = Math.max(...found.map((each) => each.connections));
  report(`connections of ${name}`, '–', String(connections), '–', '≤ 24', connections <= 24);
  if (name === 'promote within the registry') {
    const least = leastPromotion * images;
    const ratio = requests / least;
    report(
      `requests of ${name}`,
      `the least ${least}`,
      String(requests),
      `× ${ratio.toFixed(2)}`,
      '≤ × 1.05',
      ratio <= 1.05,
    );
  }
  if (name === 'publish again') {
    const reached = requests <= 3 * images && cpu <= 0.6;
    const measured = `${requests / images} requests an image, ${inSeconds(cpu)}`;
    report(`CPU of ${name}`, '–', measured, '–', '≤ 3 an image, 0.6 s', reached);
  }
}
