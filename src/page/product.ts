import { formatAge, formatCount, formatSpan } from '../core/amounts';
import type { BoardData } from '../results/board';
import { flowChart, growthChart, leadChart, sizesChart, weeksChart, type Chart } from './charts';
import { element, minuteOf, scrollingTable, section, time } from './dom';
import { findingsOf, statusTable } from './status';
import { growthRows } from '../results/growth-rows';
import { searchableTable } from './table';

/** Figures of each environment, as a table. */
function figuresTable({ figures }: BoardData): HTMLElement {
  const heads = [
    'environment',
    'releases',
    'rolled back',
    'from the commit (median)',
    'half lie within',
    'from publication (median)',
  ];
  const rows = figures.environments.map(({ environment, releases, withdrawn, sinceCommit, sincePublished }) => {
    const share = releases === 0 ? '' : ` (${((100 * withdrawn) / releases).toFixed(1)} %)`;
    const cells = [
      `${releases}`,
      `${withdrawn}${share}`,
      sinceCommit === null ? '–' : formatSpan(sinceCommit.median),
      sinceCommit === null ? '–' : `${formatSpan(sinceCommit.lower)} to ${formatSpan(sinceCommit.upper)}`,
      sincePublished === null ? '–' : formatSpan(sincePublished.median),
    ];
    return element(
      'tr',
      { 'data-environment': environment },
      element('th', { scope: 'row' }, environment),
      ...cells.map((text) => element('td', {}, text)),
    );
  });
  const { publishing } = figures;
  const says =
    publishing === null
      ? 'How long publishing takes in a build is not known: nothing was staged before it was published.'
      : `Publishing took ${formatSpan(publishing.median)} in a build (median of ${publishing.count}), from its first staging to its tags.`;
  return element(
    'div',
    {},
    scrollingTable(
      undefined,
      'Figures of each environment',
      heads.map((head) => element('th', { scope: 'col' }, head)),
      element('tbody', {}, ...rows),
    ),
    element('p', { id: 'publishing' }, says),
  );
}

/** The flow, of as many releases as the reader chooses. */
function flow(board: BoardData, draw: (chart: Chart) => void): HTMLElement {
  const select = element(
    'select',
    { id: 'flow-count' },
    ...[30, 100, 300].map((count) => element('option', { value: `${count}` }, `the last ${count} releases`)),
  );
  const room = element('div', {});
  const show = (): void => {
    const chart = flowChart(board, Number(select.value));
    room.replaceChildren(chart.figure);
    draw(chart);
  };
  select.addEventListener('change', show);
  show();
  return element(
    'div',
    {},
    element('p', { class: 'tools' }, element('label', { for: select.id }, 'Show '), select),
    room,
  );
}

const charts = new Map<HTMLElement, Chart>();
const sizes = new ResizeObserver((entries) => {
  for (const { target } of entries) {
    if (target instanceof HTMLElement && target.isConnected) {
      charts.get(target)?.draw();
    } else if (target instanceof HTMLElement) {
      sizes.unobserve(target);
      charts.delete(target);
    }
  }
});
/** Draws a chart as soon as it has room, and again where that changes. */
const drawing = (chart: Chart): HTMLElement => {
  charts.set(chart.figure, chart);
  sizes.observe(chart.figure);
  return chart.figure;
};

/** How long ago something was, as people say it. */
export function agoOf(at: string): string {
  const age = formatAge(at, new Date());
  return age === 'just now' ? age : `${age} ago`;
}

const releaseName = ({ version, commit }: { version: string | null; commit: string | null }): string =>
  version ?? commit?.slice(0, 12) ?? '';
const arrivalIn = ({ arrivals }: BoardData['releases'][number], environment: string): string | undefined =>
  arrivals.find((each) => each.environment === environment && each.way !== 'held')?.at;

/** What is in a release, and how it is pulled. */
function contentsOf(
  contents: NonNullable<BoardData['releases'][number]['contents']>,
  environments: readonly string[],
): HTMLElement {
  const rows = contents.components.flatMap(({ component, digest, images }) =>
    [
      [component, '', digest],
      ...images.filter((image) => image.digest !== digest).map((image) => ['', image.platform, image.digest]),
    ].map((texts) => element('tr', {}, ...texts.map((text) => element('td', {}, text)))),
  );
  const pulls = environments.flatMap((environment) => {
    const lines = contents.pulls.filter((each) => each.environment === environment).map(({ reference }) => reference);
    return lines.length === 0
      ? []
      : [element('h3', {}, `Pull from ${environment}`), element('pre', {}, lines.join('\n'))];
  });
  return element('div', {}, element('table', { class: 'digests' }, element('tbody', {}, ...rows)), ...pulls);
}

function repositoriesSection({ growth, written }: BoardData): HTMLElement {
  return section(
    'repositories',
    'Repositories',
    searchableTable(
      'repositories-table',
      'What repositories hold, and what for',
      growthRows(growth, new Date(written)),
      {
        columns: [
          { title: 'repository', text: ({ repository }) => repository },
          { title: 'digests', text: ({ digests }) => digests, value: ({ digests }) => Number(digests) },
          { title: 'last 4 weeks', text: ({ change }) => change },
          { title: 'is there for', text: ({ shares }) => shares, long: true },
        ],
      },
    ),
    drawing(growthChart({ growth })),
  );
}

function releasesSection({ releases, environments: all }: BoardData): HTMLElement {
  const environments = all.map(({ environment }) => environment);
  const newestFirst = [...releases].reverse();
  return section(
    'releases',
    'Releases',
    searchableTable('releases-table', 'Releases, the newest first', newestFirst, {
      details: ({ contents }) => (contents === null ? undefined : () => contentsOf(contents, environments)),
      columns: [
        // A release is found by the digests in it, too.
        { title: 'release', text: (each) => [releaseName(each), ...each.digests].join(' '), cell: releaseName },
        { title: 'commit', text: ({ commit }) => commit.slice(0, 12) },
        { title: 'branch', text: ({ branch }) => branch ?? '' },
        { title: 'committed', text: ({ committed }) => (committed === null ? '' : minuteOf(committed)) },
        ...environments.map((environment) => ({
          title: `came to ${environment}`,
          text: (each: (typeof newestFirst)[number]) => minuteOf(arrivalIn(each, environment) ?? ''),
        })),
        {
          title: 'rolled back',
          long: true,
          text: ({ withdrawn }) => withdrawn.map(({ environment, reason }) => `${environment}: ${reason}`).join('; '),
        },
      ],
    }),
  );
}

function ledgerSection({ events, more }: BoardData): HTMLElement {
  const caption = more ? 'The latest that happened, the newest first' : 'Everything that happened, the newest first';
  return section(
    'ledger',
    'The ledger',
    searchableTable('events-table', caption, events, {
      columns: [
        { title: 'entry', text: ({ seq }) => `${seq}`, value: ({ seq }) => seq },
        { title: 'when (UTC)', text: ({ at }) => minuteOf(at), cell: ({ at }) => time(at) },
        { title: 'what', text: ({ kind }) => kind },
        { title: 'environment', text: ({ environment }) => environment ?? '' },
        { title: 'release', text: releaseName },
        { title: 'who', text: ({ actor }) => actor },
        { title: 'more', text: ({ detail }) => detail, long: true },
      ],
    }),
  );
}

/** The parts of the page, and what leads to each. */
const parts = [
  ['#status', 'serves'],
  ['#figures', 'figures'],
  ['#repositories', 'repositories'],
  ['#releases', 'releases'],
  ['#ledger', 'ledger'],
] as const;

/** What the page says of a product. `back`: leads to where the reader came from. */
export function productPage(board: BoardData, back: readonly HTMLElement[]): HTMLElement[] {
  const written = new Date(board.written);
  const links = parts.map(([to, text]) => element('a', { href: to }, text));
  return [
    element(
      'header',
      {},
      element('h1', {}, board.product),
      element(
        'p',
        {},
        'Written ',
        time(board.written),
        ` UTC (${agoOf(board.written)}), from ${board.ledger.place}: ${formatCount(board.ledger.entries, 'entry', 'entries')}, ${formatCount(board.releases.length, 'release')}. ${board.asked ? 'The registries were asked.' : 'No registry was asked.'}`,
      ),
      element('nav', { 'aria-label': 'Parts of this page' }, ...back, ...links),
    ),
    element(
      'main',
      { id: 'board' },
      section('status', 'What each environment serves', statusTable(board, written), findingsOf(board, written)),
      section(
        'figures',
        'How it goes',
        figuresTable(board),
        flow(board, drawing),
        element('div', { class: 'charts' }, drawing(leadChart(board)), drawing(weeksChart(board))),
        drawing(sizesChart(board)),
      ),
      repositoriesSection(board),
      releasesSection(board),
      ledgerSection(board),
    ),
  ];
}
