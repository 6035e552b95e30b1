import { grouped } from '../../core/grouped';
import { formatAge, formatCount } from '../../core/amounts';
import stringWidth from 'string-width';
import { shortCommit } from '../../core/commit';
import type { StatusResult } from '../../results/status';
import {
  releaseKey,
  releaseName,
  expiringText,
  linesBeside,
  runsInstead,
  servedAge,
  statusRows,
  waitingReleases,
  type ServedResult,
  type StatusRow,
} from '../../results/status-rows';
import { growthRows, growthTotal } from '../../results/growth-rows';
import type { Screen } from '../answer';
import { columns, table } from './format';
import { nameList } from './components';
import type { Style } from './style';

type Environment = StatusResult['environments'][number];

/** How to pull what environments serve: a reference by digest on each line, for a shell. */
export function pullView({ environments }: StatusResult): string {
  return environments
    .flatMap(({ components }) => components.map(({ repository, digest }) => `${repository}@${digest}`))
    .join('\n');
}

/** What each environment serves, what waits, and what is not as it should be. */
export function statusView(result: StatusResult, screen: Screen, now: Date): string {
  const { style } = screen;
  const rows = statusRows(result.environments, { each: screen.verbose });
  if (rows.length === 0) {
    const { place, entries } = result.ledger;
    const names = result.environments.map(({ environment }) => environment);
    return entries === 0
      ? `This ledger is empty: ${place}\nNothing was recorded of ${style.strong(result.product)} here. Another ledger may know what its registries serve; releases from before Hod: \`hod adopt ${names.join(' ')}\`.`
      : `Nothing is served of ${style.strong(result.product)} yet: ${names.join(', ')} are empty.`;
  }
  const across = acrossTable(result, rows, style, now);
  const fits = across.split('\n').every((line) => stringWidth(line) <= screen.width);
  const asked = result.everyTag
    ? []
    : [style.faint('Checked one tag of each component for drift; --check checks every tag.')];
  return [
    fits ? across : environmentBlocks(result, rows, style, now),
    ...noticeLines(result, screen, now),
    ...growthLines(result, screen, now),
    ...asked,
  ].join('\n');
}

/** What is wrong, what waits and what ends soon, a line each. */
export function noticeLines(result: StatusResult, screen: Screen, now: Date): string[] {
  const { style } = screen;
  return [
    ...silentLines(result, style),
    ...driftLines(result, style),
    ...runningLines(result, style),
    ...waitingLines(result, screen, now),
    ...expiringLines(result, style, now),
    ...baseLines(result, style),
    ...announcementLines(result, style, now),
  ];
}

/** So many repositories are listed. */
const repositoriesListed = 8;

/** How much repositories hold, and why. */
function growthLines({ growth }: StatusResult, { style, verbose }: Screen, now: Date): string[] {
  const rows = growthRows(growth ?? [], now);
  const shown = rows.slice(0, verbose ? undefined : repositoriesListed);
  const cells = shown.map(({ repository, holds, digests, mayGo, change }) => [
    ...[repository, holds, digests, mayGo, change],
  ]);
  return rows.length === 0
    ? []
    : [
        '',
        growthTotal(growth ?? []),
        ...columns([['repository', 'holds', 'digests', 'may go', '4 weeks'], ...cells], '', (cell, column, row) =>
          row === 0 ? style.faint(cell) : column === 0 ? style.strong(cell) : cell,
        ),
        ...(rows.length > shown.length
          ? [
              style.faint(
                `and ${formatCount(rows.length - shown.length, 'more repository', 'more repositories')} (--verbose)`,
              ),
            ]
          : []),
        '',
      ];
}

/** Environments across, components down. */
function acrossTable(
  { product, environments }: StatusResult,
  rows: readonly StatusRow[],
  style: Style,
  now: Date,
): string {
  const head = [style.strong(product), ...environments.map(({ environment }) => style.strong(environment))];
  const body = rows.map(({ components, cells }) => [
    labelOf(components, style),
    ...cells.map((cell, at) => {
      if (cell === undefined) {
        return style.faint('–');
      }
      const { version, commit } = cell;
      const mark = driftMark(cell, environments[at], style);
      const detail = version === null ? '' : `${shortCommit(commit)}  `;
      const beside = cell.lines.length === 0 ? '' : `\n${style.faint(`also ${linesBeside(cell)}`)}`;
      const runs = cell.runs === null ? '' : `\n${runsText(cell, style)}`;
      return `${style.strong(releaseName(cell))}${mark}\n${style.faint(`${detail}${servedAge(cell, now)}`)}${beside}${runs}`;
    }),
  ]);
  return table([head, ...body]);
}

/** What runs of a component: what is served, or something else. */
function runsText(served: ServedResult, style: Style): string {
  const instead = runsInstead(served);
  return instead === undefined ? style.good('runs this') : style.notice(`runs ${instead}`);
}

/** What runs beside the components that the ledger knows. */
function runningLines({ environments }: StatusResult, style: Style): string[] {
  return environments.flatMap(({ environment, runsBeside }) =>
    (runsBeside ?? []).map(
      ({ text, verdict, times }) =>
        `${style.bad(verdict)}  runs in ${environment}: ${text}${times > 1 ? ` (${times} times)` : ''}`,
    ),
  );
}

/** One or two names, or how many there are and how they begin. */
function labelOf(components: readonly string[], style: Style): string {
  return components.length <= 2
    ? components.join('\n')
    : `${formatCount(components.length, 'component')}\n${style.faint(`${components[0] ?? ''} …`)}`;
}

/** The other way round, where the terminal is narrow: each environment with its releases. */
function environmentBlocks(
  { product, environments }: StatusResult,
  rows: readonly StatusRow[],
  style: Style,
  now: Date,
): string {
  const blocks = environments.map((environment, at) => {
    const served = rows.flatMap(({ components, cells }) => {
      const cell = cells[at];
      return cell === undefined ? [] : [{ components, cell }];
    });
    const groups = grouped(served, ({ cell }) => [
      releaseKey(cell),
      cell.drift.state,
      linesBeside(cell),
      runsInstead(cell),
    ]);
    const lines = groups.map((group) => {
      const [{ cell }] = group;
      const components = group.flatMap((each) => each.components);
      const { version, commit } = cell;
      const label = components.length <= 2 ? components.join(', ') : formatCount(components.length, 'component');
      return [
        [version ?? shortCommit(commit), ...(cell.lines.length === 0 ? [] : [linesBeside(cell)])].join(' · '),
        version === null ? '' : shortCommit(commit),
        servedAge(cell, now),
        `${label}${driftMark(cell, environment, style)}${cell.runs === null ? '' : ` ${runsText(cell, style)}`}`,
      ];
    });
    return [
      style.strong(environment.environment),
      ...(lines.length === 0
        ? [style.faint('  nothing')]
        : columns(lines, '  ', (cell, column) =>
            column === 0 ? style.strong(cell) : column === 3 ? cell : style.faint(cell),
          )),
    ].join('\n');
  });
  return [style.strong(product), ...blocks, ''].join('\n\n').trimEnd() + '\n';
}

/** What is wrong with what an environment serves of a component, in a word; that nobody answers is told once. */
export function driftMark({ drift, lines }: ServedResult, environment: Environment | undefined, style: Style): string {
  const line = lines.find((each) => each.drift.state !== 'none');
  switch (drift.state === 'none' && line !== undefined ? line.drift.state : drift.state) {
    case 'none':
      return '';
    case 'drifted':
      return ` ${style.bad('drift')}`;
    case 'unfinished':
      return ` ${style.notice('unfinished')}`;
    case 'unknown':
      return environment?.silent === null ? ` ${style.notice('?')}` : '';
  }
}

/** Environments that do not answer: what is shown of them is what the ledger says. */
function silentLines({ environments }: StatusResult, style: Style): string[] {
  return environments.flatMap(({ environment, silent }) =>
    silent === null ? [] : [`${style.notice('silent')}  ${environment}: ${silent}; shown is what the ledger says`],
  );
}

/** What registries serve otherwise, the same of several components once. */
function driftLines({ environments }: StatusResult, style: Style): string[] {
  return environments.flatMap(({ environment, after, silent, components }) => {
    const all = components.flatMap(({ component, lines, ...served }) =>
      [{ line: '', ...served }, ...lines].map((each) => ({ component, ...each })),
    );
    const drifted = all.filter(({ drift }) => drift.state !== 'none' && drift.detail !== silent);
    return grouped(drifted, ({ drift, line, version, commit }) => [
      drift,
      line,
      drift.state === 'unfinished' && [version, commit],
    ]).map((group) => {
      const [{ drift, line, version, commit }] = group;
      const about = `${environment}${line === '' ? '' : ` line ${line}`} ${nameList(group)}: ${drift.detail}`;
      switch (drift.state) {
        case 'unfinished': {
          const promote = `\`hod promote ${environment} ${namingOption(version, commit)}\``;
          const again = after === null ? 'its `hod publish`' : promote;
          return `${style.notice('unfinished')}  ${about}; ${again}, run again, finishes it`;
        }
        case 'unknown':
          return `${style.notice('unknown')}  ${about}`;
        default:
          return `${style.bad('drift')}  ${about}; \`hod restore ${environment}\` puts tags right`;
      }
    });
  });
}

/** What waits to come into each environment, and the rules that say no now. */
function waitingLines({ environments }: StatusResult, { style, verbose }: Screen, now: Date): string[] {
  return environments.flatMap(({ environment, after, waiting }) => {
    if (waiting === null || waiting.components.length + waiting.lines.length === 0) {
      return [];
    }
    const { releases, lines, commits, unmet } = waiting;
    const oldestWaiting = releases.at(-1);
    const facts = [
      ...(commits === null || commits === 0 ? [] : [formatCount(commits, 'commit')]),
      ...(oldestWaiting === undefined
        ? []
        : [`${releases.length > 1 ? 'the oldest ' : ''}${formatWait(oldestWaiting.since, now)}`]),
    ];
    const what =
      releases.length === 0
        ? `the release of ${after ?? 'the previous environment'} was here earlier; nothing new to promote`
        : `${waitingReleases(waiting)}, ${facts.join(', ')}`;
    const rules = grouped(unmet, ({ gate, detail }) => [gate, detail]).flatMap((group) => {
      const [{ gate, detail, remedy, of }] = group;
      const about = releases.length + lines.length > 1 ? `${gate} of ${of}` : gate;
      return [
        `  ${style.notice('unmet')}  ${about}: ${style.faint(detail.replaceAll('\n', '; '))}`,
        ...(verbose && remedy !== null ? [`         ${remedy}`] : []),
      ];
    });
    const beside = new Set(lines.map(releaseName));
    const main = unmet.filter(({ of }) => !beside.has(of));
    const waits = (refused: number, text: string, command: string): string => {
      const word = refused === 0 ? style.good('waits') : style.notice('waits');
      return `${word}  for ${environment}: ${text}${refused === 0 ? style.faint(`  \`${command}\``) : ''}`;
    };
    return [
      ...(waiting.components.length === 0 ? [] : [waits(main.length, what, `hod promote ${environment}`)]),
      ...lines.map((each) => {
        const { line, version, commit, since } = each;
        const refused = unmet.filter(({ of }) => of === releaseName(each)).length;
        const text = `${releaseName(each)} of line ${line}, ${formatWait(since, now)}`;
        return waits(refused, text, `hod promote ${environment} ${namingOption(version, commit)}`);
      }),
      ...rules,
    ];
  });
}

/** What grows old, the next end first. */
function expiringLines({ expiring }: StatusResult, style: Style, now: Date): string[] {
  return expiring.map((each) => {
    const word = each.isOver ? style.bad('expired') : style.notice('expires');
    return `${word}  ${expiringText(each, now)}`;
  });
}

/** The option that names a release to a command. */
function namingOption(version: string | null, commit: string): string {
  return version === null ? `--commit ${shortCommit(commit)}` : `--version ${version}`;
}

/** How long something has waited: `for 3 h`. */
function formatWait(since: string, now: Date): string {
  const age = formatAge(since, now);
  return age === 'just now' ? age : `for ${age}`;
}

/** Who was not told of something yet. */
function announcementLines({ announcements }: StatusResult, style: Style, now: Date): string[] {
  return announcements
    .filter(({ undelivered }) => undelivered > 0)
    .map(({ receiver, undelivered, since }) => {
      const age = since === null ? '' : ` ${style.faint(`(the first is ${formatAge(since, now)} old)`)}`;
      return `${style.notice('untold')}  ${receiver}: ${formatCount(undelivered, 'announcement')}${age}; \`hod announce\` tries again`;
    });
}

/** Which releases to build again, and what is known of the others. */
function baseLines({ bases }: StatusResult, style: Style): string[] {
  if (bases === null) {
    return [];
  }
  const lines = bases
    .filter(({ state }) => state !== 'current')
    .map(({ environment, component, version, commit, platform, name, detail, state }) => {
      const word = state === 'moved' ? style.notice('rebuild') : style.faint('unknown');
      return `${word}  ${environment} ${component} ${version ?? shortCommit(commit)} for ${platform}: on ${name}, ${detail}`;
    });
  const current = bases.length - lines.length;
  return [
    ...[...new Set(lines)],
    bases.length === 0
      ? style.faint('No image says what it was built on (org.opencontainers.image.base.name and .digest).')
      : style.faint(`${current} of ${bases.length} images stand on what their base is now.`),
  ];
}
