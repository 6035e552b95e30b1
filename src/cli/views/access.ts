import { grouped } from '../../core/grouped';
import stringWidth from 'string-width';
import { isLacking, type AccessResult, type RightResult, type StoredLoginsResult } from '../../results/access';
import type { Screen } from '../answer';
import { columns } from './format';
import { nameList, placeOf } from './components';
import type { Style } from './style';

/** What `access check` answers to people: a line for repositories with the same rights, what is missing and how to get it, and what is too much. */
export function accessView(result: AccessResult, { style, width }: Screen): string {
  const rows = rightRows(result, style);
  const heading = ['', 'repository', 'read', 'write', 'mount'].map((each) => style.faint(each));
  const lines = columns([heading, ...rows], '', (cell) => cell);
  const fits = lines.every((line) => stringWidth(line) <= width);
  const narrow = rows.flatMap(([place, repository, read, write, mount]) => [
    `${place}  ${repository}`,
    `  read ${read}  write ${write}  mount ${mount}`,
  ]);
  const warnings = result.warnings.map((warning) => `${style.notice('more than needed')}  ${warning}`);
  const logins = [...identityRows(result, style), ...loginRows(result, style)];
  return [...(fits ? lines : narrow), ...logins, ...findings(result, style), ...warnings].join('\n');
}

/** Who the job is, and what signs what it records. */
function identityRows({ identity, signing }: AccessResult, style: Style): string[] {
  return [
    ...(identity === null ? [] : [`${style.strong('job')}  ${identity.name}, proven by ${identity.issuer}`]),
    ...(signing === null || signing.as === null ? [] : [`${style.strong('signs')}  as ${signing.as}`]),
  ];
}

/** Where each login came from. Registries that asked for none, and for which there is none, are left out. */
function loginRows({ logins }: AccessResult, style: Style): string[] {
  const told = logins.filter(({ used, others }) => used !== null || others.length > 0);
  return told.flatMap(({ registry, used, others }) => [
    `${style.strong('login')}  ${registry}: ${used ?? 'none was used'}`,
    ...(others.length === 0 ? [] : [`  ${style.faint(`not used: ${others.join('; ')}`)}`]),
  ]);
}

type Row = [place: string, repository: string, read: string, write: string, mount: string];

/** A row for each repository, for those of an environment that are alike in all of it one; and one for the ledger. */
function rightRows(result: AccessResult, style: Style): Row[] {
  // Of environments that nobody asked about, only rights that go too far are told.
  const asked = result.environments.filter(({ needs }) => needs !== null);
  const rows = asked.flatMap(({ environment, needs, repositories }) => {
    const all = repositories.map(({ component, repository, read, write, mount, anyoneReads, creation }) => ({
      ...{ component, repository },
      cells: [
        readCell({ read, write, anyoneReads }, needs, style),
        creation === null ? cell(write, needs === 'write', style) : style.good(creations[creation]),
        mount === null ? style.faint('–') : cell(mount, false, style),
      ] as const,
    }));
    const groups = grouped(all, ({ component, repository, cells }) => [
      cells,
      placeOf({ component, repository }, { several: true }),
    ]);
    return groups.map((group): Row => {
      const [{ repository, cells }] = group;
      const place = group.length === 1 ? repository : `${placeOf(group[0], { several: true })} (${group.length})`;
      return [style.strong(environment), place, ...cells];
    });
  });
  const sources = result.sources.map(({ kind, component, repository, read }): Row => {
    const none = style.faint('–');
    const place = style.strong(kind === 'built' ? 'builder' : 'included');
    return [place, repository ?? component, cell(read, true, style), none, none];
  });
  const { ledger, read, append } = result.ledger;
  const adds = result.environments.some(({ needs }) => needs === 'write');
  const own = [cell(read, true, style), cell(append, adds, style)] as const;
  return [...rows, ...sources, [style.strong('ledger'), ledger, ...own, style.faint('–')]];
}

type RepositoryResult = AccessResult['environments'][number]['repositories'][number];

/** How a repository that did not exist comes to be. */
const creations = { created: 'created', 'first-upload': 'will be created' } as const;

function readCell(
  { read, write, anyoneReads }: Pick<RepositoryResult, 'read' | 'write' | 'anyoneReads'>,
  needs: 'read' | 'write' | null,
  style: Style,
): string {
  if (isMadeByPush({ read, write })) {
    return style.faint('after the first push');
  }
  return anyoneReads === true ? style.good('anyone') : cell(read, needs === 'read' || write.allowed !== 'yes', style);
}

/** A repository that is made by the first push cannot be read before. */
function isMadeByPush({ read, write }: { readonly read: RightResult; readonly write: RightResult }): boolean {
  return read.code === 'no-repository' && write.allowed === 'yes';
}

function cell(right: RightResult, needed: boolean, style: Style): string {
  if (right.allowed === 'yes') {
    return style.good('yes');
  }
  return needed ? style.bad(wordsOf(right)) : style.faint(wordsOf(right));
}

function wordsOf({ code }: RightResult): string {
  return (code ?? 'unknown').replaceAll('-', ' ');
}

/** Each different finding once, with the repositories that it concerns. */
function findings(result: AccessResult, style: Style): string[] {
  const adds = result.environments.some(({ needs }) => needs === 'write');
  const { ledger, read: reads, append } = result.ledger;
  const asked = result.environments.flatMap(({ needs, repositories }) =>
    (needs === null ? [] : repositories).flatMap(({ repository, read, write }) => {
      const rights =
        needs === 'read' || write.code === read.code ? [read] : write.allowed === 'yes' ? [] : [read, write];
      return rights.map((right) => ({ place: repository, right }));
    }),
  );
  const sources = result.sources.filter(isLacking).map(({ component, repository, read }) => ({
    place: repository ?? component,
    right: read,
  }));
  const signing = !adds || result.signing === null ? [] : [{ place: 'signing', right: result.signing.sign }];
  const all = [
    ...asked,
    ...sources,
    ...signing,
    { place: ledger, right: adds && reads.allowed === 'yes' ? append : reads },
  ];
  const lacking = all.filter(({ right }) => right.allowed !== 'yes');
  return grouped(lacking, ({ right: { why, next } }) => [why, next]).map((group) => {
    const [{ right }] = group;
    return [
      `${style.bad(wordsOf(right))}  ${nameList(group.map(({ place }) => ({ component: place })))}`,
      `  ${style.faint('why ')} ${right.why ?? ''}`,
      `  ${style.faint('next')} ${right.next ?? ''}`,
    ].join('\n');
  });
}

/** What `access store`, `forget` and `list` answer to people: whose logins are stored, never the secrets. */
export function storedView({ file, dryRun, logins }: StoredLoginsResult, { style }: Screen): string {
  const would = dryRun ? ' would be' : '';
  if (logins.length === 0) {
    return `No login ${dryRun ? 'would be' : 'is'} stored in ${file}.`;
  }
  const rows = logins.map(({ registry, username }) => [registry, username]);
  return [
    `Logins that${would || ' are'} stored in ${file}:`,
    ...columns(rows, '  ', (text, column) => (column === 0 ? style.strong(text) : text)),
  ].join('\n');
}
