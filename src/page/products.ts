import { formatCount } from '../core/amounts';
import { grouped } from '../core/grouped';
import type { BoardData, BoardsData } from '../results/board';
import { hasDrifted, releaseKey, releaseName, waitingReleases } from '../results/status-rows';
import { element, section, time } from './dom';
import { agoOf, productPage } from './product';
import { searchableTable } from './table';

/** What leads to a product; parts of its page have other names. */
const prefix = '#/';

/** Shows all products, or the one that the address names. */
export function showProducts(data: BoardsData): void {
  const shown: HTMLElement[] = [];
  const show = (): void => {
    const { hash } = location;
    // A part of the page that is shown already.
    if (shown.length > 0 && hash !== '' && !hash.startsWith(prefix)) {
      return;
    }
    const name = hash.startsWith(prefix) ? decodeURIComponent(hash.slice(prefix.length)) : '';
    const product = data.products.find((each) => each.product === name);
    const all = element('a', { href: prefix }, 'all products');
    shown.splice(0).forEach((each) => each.remove());
    shown.push(...(product === undefined ? overview(data) : productPage(product, [all])));
    document.body.prepend(...shown);
    scrollTo(0, 0);
  };
  addEventListener('hashchange', show);
  show();
}

/** All products, a row each. */
function overview({ written, products, unread }: BoardsData): HTMLElement[] {
  const names = [...new Set(products.flatMap((each) => each.environments.map(({ environment }) => environment)))];
  const ordered = [...products].sort((a, b) => weightOf(a) - weightOf(b) || a.product.localeCompare(b.product));
  const table = searchableTable('products-table', 'Products: what is wrong comes first, then what waits', ordered, {
    columns: [
      {
        title: 'product',
        text: ({ product }) => product,
        cell: ({ product }) => element('a', { href: prefix + encodeURIComponent(product) }, product),
      },
      ...names.map((name) => ({ title: name, text: (each: BoardData) => servedText(each, name) })),
      { title: 'drift', text: driftText },
      { title: 'waits', text: waitingText, long: true as const },
      {
        title: 'releases',
        text: ({ releases }) => String(releases.length),
        value: ({ releases }) => releases.length,
      },
    ],
  });
  const failures = unread.map(({ config, what, why }) => element('li', {}, `${config}: ${what} (${why})`));
  return [
    element(
      'header',
      {},
      element('h1', {}, formatCount(products.length, 'product')),
      element('p', {}, 'Written ', time(written), ` UTC (${agoOf(written)}).`),
    ),
    element(
      'main',
      { id: 'board' },
      section(
        'products',
        'What each product serves',
        element('p', { id: 'summary' }, summaryOf(products, unread)),
        table,
      ),
      ...(failures.length === 0
        ? []
        : [section('unread', 'Products that could not be read', element('ul', {}, ...failures))]),
    ),
  ];
}

function summaryOf(products: readonly BoardData[], unread: BoardsData['unread']): string {
  const [drifted, waiting] = [driftText, waitingText].map(
    (text) => products.filter((each) => text(each) !== '').length,
  );
  return [
    drifted === 0 ? 'Everything is as the ledgers say' : `${formatCount(drifted ?? 0, 'product')} with drift`,
    waiting === 0 ? 'nothing waits' : `${formatCount(waiting ?? 0, 'product')} with releases that wait`,
    ...(unread.length === 0 ? [] : [`${formatCount(unread.length, 'product')} could not be read`]),
  ]
    .join('; ')
    .concat('.');
}

/** What an environment serves of a product: the release of the most components, and how many others. */
function servedText({ environments }: BoardData, name: string): string {
  const components = environments.find(({ environment }) => environment === name)?.components ?? [];
  const [first, ...others] = grouped(components, releaseKey).sort((a, b) => b.length - a.length);
  return first === undefined ? '' : `${releaseName(first[0])}${others.length === 0 ? '' : ` +${others.length}`}`;
}

function waitingText({ environments }: BoardData): string {
  return environments
    .flatMap(({ environment, waiting }) =>
      waiting === null || waiting.releases.length === 0 ? [] : [`for ${environment}: ${waitingReleases(waiting)}`],
    )
    .join('; ');
}

function driftText({ environments }: BoardData): string {
  return environments
    .filter(({ components }) => components.some((each) => [each, ...each.lines].some(hasDrifted)))
    .map(({ environment }) => environment)
    .join(', ');
}

function weightOf(board: BoardData): number {
  return driftText(board) !== '' ? 0 : waitingText(board) !== '' ? 1 : 2;
}
