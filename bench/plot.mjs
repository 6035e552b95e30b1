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
