import { axisX, axisY, barX, dot, line, plot, rectY, ruleY, text, tickX, type PlotOptions } from '@observablehq/plot';
import { formatBytes, formatSpan } from '../core/amounts';
import type { BoardData } from '../results/board';
import { element } from './dom';

/** A chart that is drawn anew where its room changes. */
export interface Chart {
  readonly figure: HTMLElement;
  draw(): void;
}

/** Colours and marks of environments, by their places: a colour is never alone. */
const colours = ['var(--env-0)', 'var(--env-1)', 'var(--env-2)', 'var(--env-3)', 'var(--env-4)', 'var(--env-5)'];
const marks = ['circle', 'square', 'triangle', 'diamond', 'star', 'wye'] as const;

/** A chart, what it shows in a sentence, and how it is drawn for a width. */
function chart(title: string, says: string, options: (width: number) => PlotOptions): Chart {
  const room = element('div', { class: 'plot' });
  const figure = element('figure', {}, element('figcaption', {}, element('strong', {}, title), ` ${says}`), room);
  return {
    figure,
    draw: () => {
      const width = Math.max(280, room.clientWidth);
      const drawn = plot({
        width,
        marginLeft: 70,
        style: { background: 'transparent', color: 'inherit', fontSize: '13px', overflow: 'visible' },
        ariaLabel: title,
        ariaDescription: says,
        ...options(width),
      });
      // The page has its own rules for what is in here, and allows no others.
      drawn.querySelectorAll('style').forEach((each) => each.remove());
      // It is one picture to those who hear it, and its sentence says what is in it.
      drawn.querySelectorAll('[aria-label]').forEach((each) => each.removeAttribute('aria-label'));
      drawn.setAttribute('role', 'img');
      room.replaceChildren(drawn);
    },
  };
}

function scales(environments: readonly string[]): Pick<PlotOptions, 'color' | 'symbol'> {
  const pick = <T>(all: readonly T[]): T[] => environments.flatMap((_, at) => all[at % all.length] ?? []);
  return {
    color: { domain: [...environments], range: pick(colours) },
    symbol: { domain: [...environments], range: pick(marks) },
  };
}

const hour = 3_600_000;

/** How releases came from environment to environment. `count`: of so many of the latest. */
export function flowChart({ environments, releases }: BoardData, count: number): Chart {
  const names = environments.map(({ environment }) => environment);
  const shown = releases.slice(-count);
  const points = shown.flatMap(({ version, commit, arrivals, withdrawn }, at) => [
    ...arrivals
      .filter(({ environment, way }) => names.includes(environment) && way !== 'held')
      .map(({ environment, at: when }) => ({
        release: `${at}`,
        name: version ?? commit.slice(0, 12),
        environment,
        at: new Date(when),
        gone: withdrawn.some((each) => each.environment === environment),
      })),
  ]);
  const gone = points.filter((each) => each.gone);
  const last = names.at(-1) ?? '';
  const reached = points.filter(({ environment }) => environment === last).length;
  const says = `Each line is one of the last ${shown.length} releases; ${reached} of them came to ${last}, and where one was rolled back there is a cross.`;
  return chart('From environment to environment', says, () => ({
    ...scales(names),
    height: 90 + 60 * names.length,
    x: { type: 'utc', label: null, grid: true },
    y: { type: 'point', domain: [...names], label: null, padding: 0.4 },
    marks: [
      ruleY(names, { stroke: 'var(--line)' }),
      line(points, { x: 'at', y: 'environment', z: 'release', stroke: 'var(--muted)', strokeOpacity: 0.7 }),
      dot(points, {
        x: 'at',
        y: 'environment',
        fill: 'environment',
        symbol: 'environment',
        r: 5,
        title: ({ name, environment, at }: (typeof points)[number]) =>
          `${name} came to ${environment} at ${at.toISOString().slice(0, 16).replace('T', ' ')}`,
      }),
      dot(gone, { x: 'at', y: 'environment', symbol: 'times', stroke: 'var(--bad)', strokeWidth: 3, r: 9 }),
    ],
  }));
}

/** How long it takes from a commit to each environment. */
export function leadChart({ figures }: BoardData): Chart {
  const rows = figures.environments.flatMap(({ environment, sinceCommit }) =>
    sinceCommit === null ? [] : [{ environment, ...sinceCommit }],
  );
  const names = rows.map(({ environment }) => environment);
  const told = rows.map(({ environment, median }) => `${environment} ${formatSpan(median)}`).join(', ');
  const says =
    rows.length === 0
      ? 'Git here knows none of the commits.'
      : `The median: ${told}. The bar is where half of all releases lie.`;
  return chart('From the commit to each environment', says, () => ({
    ...scales(names),
    height: 70 + 46 * Math.max(1, names.length),
    x: { label: 'hours', grid: true, zero: true, transform: (value: number) => value / hour },
    y: { type: 'band', domain: names, label: null, padding: 0.35 },
    marks: [
      barX(rows, { x1: 'lower', x2: 'upper', y: 'environment', fill: 'environment', insetRight: -1 }),
      tickX(rows, { x: 'median', y: 'environment', stroke: 'currentColor', strokeWidth: 3 }),
    ],
  }));
}

/** How often releases came into environments, week by week. */
export function weeksChart({ figures }: BoardData): Chart {
  const names = figures.environments.map(({ environment }) => environment);
  const rows = figures.environments.flatMap(({ environment, weeks }) =>
    weeks.map(({ week, count }) => ({ environment, week: new Date(`${week}T00:00:00Z`), count })),
  );
  const total = figures.environments.map(
    ({ environment, weeks }) => `${environment} ${weeks.reduce((sum, { count }) => sum + count, 0)}`,
  );
  const says = `Publications and promotions by week: ${total.join(', ')} in all.`;
  return chart('Deliveries a week', says, () => ({
    ...scales(names),
    height: 60 + 90 * names.length,
    marginRight: 60,
    x: { type: 'utc', label: null },
    y: { label: null, ticks: 3, grid: true, nice: true },
    fy: { domain: [...names], label: null },
    marks: [
      rectY(rows, { x: 'week', interval: 'week', y: 'count', fy: 'environment', fill: 'environment', insetRight: 1 }),
      ruleY([0], { stroke: 'currentColor' }),
    ],
  }));
}

/** How many digests repositories hold, week by week. */
export function growthChart({ growth }: Pick<BoardData, 'growth'>): Chart {
  const changes = new Map<string, { added: number; removed: number }>();
  for (const { week, added, removed } of growth.flatMap(({ weeks }) => weeks)) {
    const known = changes.get(week) ?? { added: 0, removed: 0 };
    changes.set(week, { added: known.added + added, removed: known.removed + removed });
  }
  let total = 0;
  const rows = [...changes]
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([week, { added, removed }]) => ({
      week: new Date(`${week}T00:00:00Z`),
      digests: (total += added - removed),
    }));
  const says = `By the ledger: ${total} now. A line that only rises says that nothing is tidied.`;
  return chart('Digests in all repositories, at the end of each week', says, () => ({
    height: 200,
    x: { type: 'utc', label: null },
    y: { label: null, grid: true, zero: true, nice: true },
    marks: [
      line(rows, { x: 'week', y: 'digests', stroke: 'var(--env-0)', strokeWidth: 2, curve: 'step-after' }),
      dot(rows, { x: 'week', y: 'digests', fill: 'var(--env-0)', r: 3 }),
      ruleY([0], { stroke: 'currentColor' }),
    ],
  }));
}

/** How large components are, over versions. */
export function sizesChart({ sizes }: BoardData): Chart {
  const versions = [...new Set(sizes.flatMap(({ points }) => points.map(({ version }) => version)))];
  const most = 8;
  const largest = [...sizes].sort((a, b) => lastOf(b) - lastOf(a)).slice(0, most);
  const rows = largest.flatMap(({ component, points }) => points.map((point) => ({ component, ...point })));
  const told = largest
    .map(({ component, points }) => `${component} ${formatBytes(points.at(-1)?.bytes ?? 0)}`)
    .join(', ');
  const says =
    rows.length === 0
      ? 'No registry was asked.'
      : `As shipped, for the largest platform; the ${largest.length === 1 ? 'largest' : `${largest.length} largest`} now: ${told}.`;
  return chart('Size of components over versions', says, (width) => ({
    height: 300,
    marginRight: 130,
    x: { type: 'point', domain: versions, label: null },
    y: { label: null, zero: true, grid: true, nice: true },
    color: { domain: largest.map(({ component }) => component), range: colours },
    symbol: { domain: largest.map(({ component }) => component), range: [...marks] },
    marks: [
      axisX({ ticks: versions.filter((_, at) => at % Math.ceil((versions.length * 55) / width) === 0) }),
      axisY({ ticks: 5, tickFormat: (bytes: number) => formatBytes(bytes) }),
      line(rows, { x: 'version', y: 'bytes', z: 'component', stroke: 'component', strokeWidth: 2 }),
      text(
        largest.flatMap(({ component, points }) => points.slice(-1).map((point) => ({ component, ...point }))),
        { x: 'version', y: 'bytes', text: 'component', dx: 12, textAnchor: 'start', fill: 'currentColor' },
      ),
      dot(rows, {
        x: 'version',
        y: 'bytes',
        fill: 'component',
        symbol: 'component',
        title: ({ component, version, bytes }: (typeof rows)[number]) =>
          `${component} ${version}: ${formatBytes(bytes)}`,
      }),
    ],
  }));
}

function lastOf({ points }: BoardData['sizes'][number]): number {
  return points.at(-1)?.bytes ?? 0;
}
