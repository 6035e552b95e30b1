import { formatAge, formatCount } from '../core/amounts';
import type { BoardData } from '../results/board';
import {
  hasDrifted,
  linesBeside,
  releaseName,
  servedAge,
  expiringText,
  statusRows,
  waitingReleases,
  type ServedResult,
} from '../results/status-rows';
import { element, scrollingTable } from './dom';

type Environment = BoardData['environments'][number];
/** Environments across, components down; components that stand alike everywhere share a row, and what differs comes first. */
export function statusTable({ environments }: BoardData, now: Date): HTMLElement {
  const rows = statusRows(environments, { each: false });
  const heads = environments.map(({ environment, silent }) =>
    element('th', { scope: 'col' }, environment, ...(silent === null ? [] : [' (does not answer)'])),
  );
  const body = rows.map(({ components, cells }) => {
    const names =
      components.length <= 2
        ? components.join(', ')
        : element(
            'details',
            {},
            element('summary', {}, formatCount(components.length, 'component')),
            components.join(', '),
          );
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
              element('span', { class: 'faint' }, `${cell.commit.slice(0, 12)}, ${servedAge(cell, now)}, ${cell.by}`),
              ...(cell.lines.length === 0 ? [] : [element('br', {}), element('span', {}, `also ${linesBeside(cell)}`)]),
            ),
      ),
    );
  });
  return scrollingTable(
    'status-table',
    'What each environment serves',
    [element('th', { scope: 'col' }, 'component'), ...heads],
    element('tbody', {}, ...body),
  );
}

function markOf({ lines, ...served }: ServedResult): Node[] {
  const found = [served, ...lines].find(hasDrifted);
  return found === undefined
    ? []
    : [element('span', { class: 'mark' }, found.drift.state === 'drifted' ? ' drift' : ' unfinished')];
}

/** What waits, what is not as it should be, and who was not told. */
export function findingsOf({ environments, expiring, announcements }: BoardData, now: Date): HTMLElement {
  const items = environments.flatMap(({ environment, silent, waiting, components }) => [
    ...(silent === null ? [] : [`${environment} does not answer: ${silent}`]),
    ...components.filter(hasDrifted).map(({ component, drift }) => `${environment} ${component}: ${drift.detail}`),
    ...components.flatMap(({ component, lines }) =>
      lines.filter(hasDrifted).map(({ line, drift }) => `${environment} line ${line} ${component}: ${drift.detail}`),
    ),
    ...(waiting === null || waiting.releases.length === 0 ? [] : [waitingText(environment, waiting, now)]),
    ...(waiting?.lines ?? []).map(
      (each) =>
        `${releaseName(each)} of line ${each.line} waits for ${environment}, since ${formatAge(each.since, now)}`,
    ),
    ...(waiting?.unmet ?? []).map(
      ({ gate, of, detail }) => `${environment} does not take ${of} yet: ${gate}, ${detail}`,
    ),
  ]);
  const untold = announcements
    .filter(({ undelivered }) => undelivered > 0)
    .map(({ receiver, undelivered }) => `${receiver} was not told of ${formatCount(undelivered, 'event')} yet`);
  const old = expiring.map((each) => `${each.isOver ? 'Expired' : 'Expires'}: ${expiringText(each, now)}`);
  const all = [...items, ...old, ...untold];
  return all.length === 0
    ? element('p', { id: 'findings' }, 'Nothing waits, and everything is as the ledger says.')
    : element('ul', { id: 'findings' }, ...all.map((text) => element('li', {}, text)));
}

function waitingText(environment: string, waiting: NonNullable<Environment['waiting']>, now: Date): string {
  const { releases, commits } = waiting;
  const oldest = releases.at(-1);
  return [
    `${waitingReleases(waiting)} ${releases.length === 1 ? 'waits' : 'wait'} for ${environment}`,
    ...(commits === null ? [] : [formatCount(commits, 'commit')]),
    ...(oldest === undefined ? [] : [`the oldest ${formatAge(oldest.since, now)}`]),
  ].join(', ');
}
