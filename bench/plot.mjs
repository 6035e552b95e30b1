import { writeFileSync } from 'node:fs';
import * as vega from 'vega';
import * as vegaLite from 'vega-lite';

const colours = {
  domain: ['Hod', 'the same requests, leanest', 'round trips alone'],
  range: ['#1f6f8b', '#c8772b', '#8a8a8a'],
};

const legend = { orient: 'bottom', title: null, labelLimit: 300 };

/** Draws seconds against the round trip, and against the number of images: SVG in a file. */
export async function drawDistances(points, file) {
  const panel = (title, x, of) => ({
    title,
    width: 330,
    height: 260,
    data: { values: points.filter(of) },
    mark: { type: 'line', point: true, strokeWidth: 2 },
    encoding: {
      x: { field: x.field, type: 'quantitative', title: x.title },
      y: { field: 'seconds', type: 'quantitative', title: 'seconds to publish' },
      color: { field: 'what', type: 'nominal', scale: colours, legend },
      strokeDash: {
        field: 'what',
        type: 'nominal',
        legend,
        scale: {
          ...colours,
          range: [
            [1, 0],
            [6, 3],
            [2, 3],
          ],
        },
      },
    },
  });
  const most = Math.max(...points.map(({ images }) => images));
  const { spec } = vegaLite.compile({
    background: 'white',
    hconcat: [
      panel(
        `${most} images × 3 platforms`,
        { field: 'milliseconds', title: 'round trip, ms' },
        ({ images }) => images === most,
      ),
      panel('at 20 ms', { field: 'images', title: 'images × 3 platforms' }, ({ milliseconds }) => milliseconds === 20),
    ],
    config: { font: 'sans-serif', axis: { grid: true, gridColor: '#eeeeee' } },
  });
  const view = new vega.View(vega.parse(spec), { renderer: 'none' });
  writeFileSync(file, `${await view.toSVG()}\n`);
}

const kinds = [
  [/\/blobs\/uploads/, 'blobs sent or mounted'],
  [/\/blobs\//, 'blobs looked for'],
  [/\/referrers\/|\/tags\/list/, 'referrers and tag lists'],
];

function kindOf({ method, path }) {
  const [, kind] = kinds.find(([pattern]) => pattern.test(path)) ?? [];
  const tag = !path.includes('/manifests/sha256:');
  const verb = { GET: 'read', HEAD: 'looked for', PUT: 'written' }[method];
  return kind ?? `${tag ? 'tags' : 'manifests'} ${verb}`;
}

/** How wide a moment is, in milliseconds. */
const moment = 10;

/** How many requests of each kind were open at each moment of a run. */
function openAt({ name, requests }) {
  const first = Math.min(...requests.map(({ begun }) => begun));
  const last = Math.max(...requests.map(({ ended }) => ended));
  const kindsHere = [...new Set(requests.map(kindOf))];
  return Array.from({ length: Math.ceil((last - first) / moment) }, (_, at) => first + at * moment).flatMap((at) => {
    const open = requests.filter(({ begun, ended }) => begun <= at && ended > at);
    return kindsHere.map((kind) => ({
      ...{ run: name, kind, milliseconds: at - first },
      open: open.filter((each) => kindOf(each) === kind).length,
    }));
  });
}

/** Draws how many requests of each run were open over time, by what they ask for: SVG in a file. */
export async function drawRequests(runs, file) {
  const { spec } = vegaLite.compile({
    background: 'white',
    data: { values: runs.flatMap(openAt) },
    facet: { row: { field: 'run', type: 'nominal', title: null, sort: runs.map(({ name }) => name) } },
    spec: {
      width: 760,
      height: 130,
      mark: { type: 'area', interpolate: 'step' },
      encoding: {
        x: { field: 'milliseconds', type: 'quantitative', title: 'milliseconds since the first request' },
        y: { field: 'open', type: 'quantitative', title: 'requests open' },
        color: { field: 'kind', type: 'nominal', legend: { ...legend, columns: 4 } },
      },
    },
    resolve: { scale: { x: 'independent' } },
    config: { font: 'sans-serif', axis: { grid: true, gridColor: '#eeeeee' } },
  });
  const view = new vega.View(vega.parse(spec), { renderer: 'none' });
  writeFileSync(file, `${await view.toSVG()}\n`);
}
