import { formatAge, formatCount } from '../core/amounts';
import type { BoardData } from '../results/board';
import { element, scrollingTable } from './dom';

type Environment = BoardData['environments'][number];
type Image = Environment['images'][number];

const releaseName = ({ version, commit }: Pick<Image, 'version' | 'commit'>): string => version ?? commit.slice(0, 12);

/** Environments across, images down; images that stand alike everywhere share a row, and what differs comes first. */
export function statusTable({ environments }: BoardData, now: Date): HTMLElement {
  const rows = rowsOf(environments);
  const heads = environments.map(({ environment, silent }) =>
    element('th', { scope: 'col' }, environment, ...(silent === null ? [] : [' (does not answer)'])),
  );
  const body = rows.map(({ images, cells }) => {
    const names =
      images.length <= 2
        ? images.join(', ')
        : element('details', {}, element('summary', {}, formatCount(images.length, 'image')), images.join(', '));
    return element(
      'tr',
      {},
      element('th', { scope: 'row' }, names),
      ...cells.map((cell) =>
        cell === undefined
          ? element('td', {}, '–')
          : element(
              'td',
              {},
              element('strong', {}, releaseName(cell)),
              ...markOf(cell),
              element('br', {}),
              element(
                'span',
                { class: 'faint' },
                `${cell.commit.slice(0, 12)}, ${formatAge(cell.since, now)}, ${cell.by}`,
              ),
            ),
      ),
    );
  });
  return scrollingTable(
    'status-table',
    'What each environment serves',
    [element('th', { scope: 'col' }, 'image'), ...heads],
    element('tbody', {}, ...body),
  );
}

function markOf({ drift: { state } }: Image): Node[] {
  return state === 'drifted' || state === 'unfinished'
    ? [element('span', { class: 'mark' }, state === 'drifted' ? ' drift' : ' unfinished')]
    : [];
}

function rowsOf(environments: readonly Environment[]): { images: string[]; cells: (Image | undefined)[] }[] {
  const names = [...new Set(environments.flatMap(({ images }) => images.map(({ image }) => image)))];
  const found = environments.map(({ images }) => new Map(images.map((each) => [each.image, each])));
  const rows = new Map<string, { images: string[]; cells: (Image | undefined)[] }>();
  for (const image of names) {
    const cells = found.map((each) => each.get(image));
    const key = JSON.stringify(cells.map((cell) => cell && [cell.version, cell.commit, cell.drift.state]));
    const row = rows.get(key) ?? { images: [], cells };
    row.images.push(image);
    rows.set(key, row);
  }
  const differs = ({ cells }: { cells: (Image | undefined)[] }): number =>
    new Set(cells.map((cell) => cell && `${releaseName(cell)} ${cell.drift.state}`)).size > 1 ? 0 : 1;
  return [...rows.values()].sort((a, b) => differs(a) - differs(b) || a.images.length - b.images.length);
}

/** What waits, what is not as it should be, and who was not told. */
export function findingsOf({ environments, announcements }: BoardData, now: Date): HTMLElement {
  const items = environments.flatMap(({ environment, silent, waiting, images }) => [
    ...(silent === null ? [] : [`${environment} does not answer: ${silent}`]),
    ...images
      .filter(({ drift }) => drift.state === 'drifted' || drift.state === 'unfinished')
      .map(({ image, drift }) => `${environment} ${image}: ${drift.detail}`),
    ...(waiting === null || waiting.releases.length === 0 ? [] : [waitingText(environment, waiting, now)]),
    ...(waiting?.unmet ?? []).map(
      ({ gate, of, detail }) => `${environment} does not take ${shortOf(of)} yet: ${gate}, ${detail}`,
    ),
  ]);
  const untold = announcements
    .filter(({ undelivered }) => undelivered > 0)
    .map(({ receiver, undelivered }) => `${receiver} was not told of ${formatCount(undelivered, 'event')} yet`);
  const all = [...items, ...untold];
  return all.length === 0
    ? element('p', { id: 'findings' }, 'Nothing waits, and everything is as the ledger says.')
    : element('ul', { id: 'findings' }, ...all.map((text) => element('li', {}, text)));
}

function waitingText(
  environment: string,
  { releases, more, commits }: NonNullable<Environment['waiting']>,
  now: Date,
): string {
  const names = releases.slice(0, 3).map(releaseName).join(', ');
  const rest = releases.length > 3 || more ? ', …' : '';
  const oldest = releases.at(-1);
  return [
    `${more ? 'more than ' : ''}${formatCount(releases.length, 'release')} (${names}${rest}) ${releases.length === 1 ? 'waits' : 'wait'} for ${environment}`,
    ...(commits === null ? [] : [formatCount(commits, 'commit')]),
    ...(oldest === undefined ? [] : [`the oldest ${formatAge(oldest.since, now)}`]),
  ].join(', ');
}

function shortOf(release: string): string {
  return /^[0-9a-f]{40,64}$/.test(release) ? release.slice(0, 12) : release;
}
