import { formatCount, formatMoment, formatPast } from '../../core/amounts';
import { shortCommit } from '../../core/commit';
import { grouped } from '../../core/grouped';
import type { CommitResult, FoundResult, IdentifyResult } from '../../results/identify';
import { releaseName } from '../../results/status-rows';
import type { Screen } from '../answer';
import { cell, codeReference } from './ci';
import { nameList } from './components';
import { columns } from './format';
import type { Style } from './style';

type Standing = FoundResult['environments'][number];
type Reach = CommitResult['environments'][number];
type Position = NonNullable<Standing['serves']>;

/** So many things are shown with all that is known of them; more have a line each. */
const shownInFull = 4;

/** Which release things are: of a few, all that is known; of many, a line each. */
export function identifyView(result: IdentifyResult, { style, verbose }: Screen, now: Date): string {
  const { found, commits } = result;
  const several = result.products.length > 1;
  const blocks = [
    ...commits.map((each) => commitBlock(each, { several, now }, style)),
    ...(result.in !== null || found.length > shownInFull
      ? listBlocks(result, { verbose, now }, style)
      : found.map((each) => foundBlock(each, { several, now }, style))),
    ...summaryLines(result, style),
  ];
  return blocks.join('\n\n');
}

function summaryLines(result: IdentifyResult, style: Style): string[] {
  const { found, commits, overflowed, allServed, in: environment } = result;
  const more = [
    ...(overflowed ? [style.notice('The text names more than is looked up; the rest was left out.')] : []),
    ...lookedLines(result, style),
  ];
  if (found.length === 0 && commits.length === 0) {
    return ['No digest and no reference of an image was found.', ...more];
  }
  if (environment === null || allServed === null) {
    return more;
  }
  const wrong = found.filter(({ verdict }) => verdict !== 'current').length;
  const verdict = allServed
    ? style.good(`All of this is served by ${environment}.`)
    : found.length === 0
      ? style.bad('Nothing was found that could be compared.')
      : style.bad(`${wrong} of ${found.length} are not what ${environment} serves.`);
  return [verdict, ...more];
}

/** What was looked through for digests that are still unknown. */
function lookedLines({ found, lookedThrough }: IdentifyResult, style: Style): string[] {
  if (lookedThrough === null) {
    return [];
  }
  const { components, unread } = lookedThrough;
  const [first] = unread;
  return [
    ...(components > unread.length && found.some(({ is, text }) => is === null && !text.includes('/'))
      ? [
          style.faint(
            `Layers were looked for in ${formatCount(components, 'component')}: of what environments serve, and of the latest releases.`,
          ),
        ]
      : []),
    ...(first === undefined
      ? []
      : [style.notice(`${unread.length} of ${components} could not be read, such as ${first.object}: ${first.why}`)]),
  ];
}

/** So many that stand alike are listed. */
const listedAlike = 12;

/** All that is known of one thing. */
function foundBlock(found: FoundResult, { several, now }: { several: boolean; now: Date }, style: Style): string {
  const { text, times, components, environments, candidates } = found;
  const title = `${style.strong(text)}${times > 1 ? style.faint(`  (${times} times)`) : ''}`;
  if (candidates.length > 0) {
    return [
      title,
      `  ${style.notice('ambiguous')}: these digests begin so`,
      ...candidates.map((each) => `    ${each}`),
    ].join('\n');
  }
  if (components.length === 0) {
    return [title, `  ${style.notice(unknownText(found))}`].join('\n');
  }
  const product = several && found.product !== null ? `${found.product}: ` : '';
  const what = components.flatMap(({ component, releases, count }) => {
    const [release] = releases;
    const names = releases.map(releaseName);
    return [
      `  ${product}${whatItIs(found, component)} ${style.strong(releases[0] === undefined ? '' : releaseName(releases[0]))}${count > 1 ? `, in ${count} releases: ${names.join(', ')}${count > names.length ? ', …' : ''}` : ''}`,
      ...(release === undefined ? [] : [style.faint(`  ${releaseText(release, now)}`)]),
      ...standingLines(
        environments.filter((each) => each.component === component),
        now,
        style,
      ),
    ];
  });
  return [title, ...what, ...noteLines(found, now, style)].join('\n');
}

/** Which release something is, and how it stands to environments; nothing where the ledger does not know it. */
export function releaseLines(found: FoundResult, now: Date, style: Style): string[] {
  return found.components.length === 0
    ? []
    : foundBlock({ ...found, repositoryOf: null }, { several: false, now }, style)
        .split('\n')
        .slice(1);
}

/** What a reference or digest is of a component: `timetable for linux/arm64 of`. */
function whatItIs({ is, platform, type }: FoundResult, component: string): string {
  switch (is) {
    case 'image':
      return `image for ${platform ?? 'one platform'} of ${component}`;
    case 'config':
      return `config of the image for ${platform ?? 'one platform'} of ${component}`;
    case 'referrer':
      return `referrer (${type ?? 'of an unknown type'}) of ${component}`;
    case 'layer':
      return `layer of ${component}`;
    default:
      return component;
  }
}

function unknownText(found: FoundResult): string {
  if (found.byRecord) {
    return 'unknown: no release record in the registry refers to it, and there is no hod.yaml here';
  }
  return `${unknownState(found)}: ${unknownDetail(found)}`;
}

/** Why the ledger says nothing of something. */
function unknownDetail({ repositoryOf, tag, text }: Pick<FoundResult, 'repositoryOf' | 'tag' | 'text'>): string {
  if (tag === 'gone') {
    return 'a rollback removed this tag';
  }
  if (repositoryOf !== null) {
    return text.includes('@') ? 'no release holds this digest' : 'no release has this tag';
  }
  return text.includes('/') ? 'this product has no such repository' : 'no release holds this digest';
}

function releaseText(
  { commit, branch, build, published, by }: FoundResult['components'][number]['releases'][number],
  now: Date,
): string {
  return [
    `commit ${shortCommit(commit)}${branch === null ? '' : ` on ${branch}`}`,
    ...(build === null ? [] : [`build ${build}`]),
    `published ${moment(published, now)}${by === null ? '' : ` by ${by}`}`,
  ].join(', ');
}

function standingLines(environments: readonly Standing[], now: Date, style: Style): string[] {
  const rows = environments.map((each) => [each.environment, each.state, standingText(each, now)]);
  return columns(rows, '  ', (text, column) =>
    column === 1 ? paintState(text, style) : column === 0 ? style.strong(text) : text,
  );
}

function paintState(text: string, style: Style): string {
  switch (text.trim()) {
    case 'current':
    case 'in':
      return style.good(text);
    case 'withdrawn':
    case 'foreign':
    case 'unknown':
    case 'ambiguous':
      return style.bad(text);
    default:
      return style.notice(text);
  }
}

/** How content stands to an environment, in words. */
function standingText(standing: Standing, now: Date): string {
  const { environment, state, line, since, until, serves, release, withdrawn } = standing;
  const instead =
    serves === null ? `${environment} no longer serves this component` : `${environment} serves ${releaseName(serves)}`;
  const where = line === null ? '' : `on line ${line} `;
  switch (state) {
    case 'current':
      return `${where}since ${moment(since, now)}`;
    case 'behind': {
      const there =
        line === null
          ? instead
          : `line ${line} of ${environment} has ${serves === null ? 'nothing' : releaseName(serves)}`;
      const before =
        until === null || release === null ? '' : ` (${releaseName(release)} until ${formatMoment(until)})`;
      return `${distance(standing)}${there}${before}`;
    }
    case 'withdrawn':
      return withdrawn === null ? instead : `${rolledBack(environment, release, withdrawn, now)}; ${instead}`;
    case 'held':
      return `something newer was there already when it came in; ${instead}`;
    case 'never':
      return serves === null ? `${environment} does not serve this component` : instead;
  }
}

function distance({ releasesBehind, commitsBehind }: Standing): string {
  const parts = [
    ...(releasesBehind === null ? [] : [formatCount(releasesBehind, 'release')]),
    ...(commitsBehind === null || commitsBehind === 0 ? [] : [formatCount(commitsBehind, 'commit')]),
  ];
  return parts.length === 0 ? '' : `by ${parts.join(' and ')}: `;
}

function rolledBack(
  environment: string,
  release: Position | null,
  { by, at, reason }: NonNullable<Standing['withdrawn']>,
  now: Date,
): string {
  return `${by} rolled ${environment} back from ${release === null ? 'it' : releaseName(release)} on ${moment(at, now)}: "${reason}"`;
}

/** What makes an answer unsure. */
function noteLines({ tag, repositoryOf, byRecord, removed }: FoundResult, now: Date, style: Style): string[] {
  return [
    ...(removed === null
      ? []
      : [
          style.notice(
            `  ${removed.by} ${removed.state === 'removed' ? 'removed' : 'began to remove'} this image from the repository with \`hod tidy\` ${moment(removed.at, now)} (${removed.rule}).`,
          ),
        ]),
    ...(byRecord
      ? [
          style.faint(
            '  A release record in the registry says so. Anyone who can push to the repository can forge one.',
          ),
        ]
      : []),
    ...(tag === 'moving'
      ? [style.faint('  This tag moves: it leads there now. What was pulled under it before may be something else.')]
      : []),
    ...(repositoryOf === null ? [] : [style.faint(`  From the repository of ${repositoryOf.join(' and ')}.`)]),
  ];
}

/** Many things: a line each, those that are not served first, and what is said of several once. */
function listBlocks(
  { found, in: environment }: IdentifyResult,
  { verbose, now }: { verbose: boolean; now: Date },
  style: Style,
): string[] {
  const judged = found.map((each) => ({
    each,
    state: each.verdict ?? (each.product === null ? unknownState(each) : ''),
  }));
  const right = judged.filter(({ state }) => state === 'current');
  const others = judged.filter(({ state }) => state !== 'current').sort((a, b) => (a.state < b.state ? 1 : -1));
  const shown = verbose ? [...others, ...right] : others;
  const blocks = grouped(shown, ({ each, state }) => [
    state,
    environment === null ? '' : detailOf(each, environment, now),
  ]).map((group) => {
    const [{ each: first, state }] = group;
    const detail = environment === null ? '' : detailOf(first, environment, now);
    const head = [...(state === '' ? [] : [paintState(state, style)]), ...(detail === '' ? [] : [detail])].join('  ');
    const listed = verbose ? group : group.slice(0, listedAlike);
    const more = group.length - listed.length;
    const rows = listed.map(({ each }) => [
      namesOf(each, environment),
      inShort(each.text),
      each.times > 1 ? `${each.times} times` : '',
      environment === null ? detailOf(each, null, now) : '',
    ]);
    const lines = columns(rows, head === '' ? '' : '  ', (text, column) =>
      column === 0 ? style.strong(text) : column > 1 ? style.faint(text) : text,
    );
    return [
      ...(head === '' ? [] : [head]),
      ...lines,
      ...(more === 0 ? [] : [style.faint(`  and ${more} more (--verbose)`)]),
    ].join('\n');
  });
  const rest =
    shown.length < judged.length
      ? [
          style.faint(
            `${right.length} ${right.length === 1 ? 'is' : 'are'} what ${environment ?? ''} serves (--verbose lists ${right.length === 1 ? 'it' : 'them'})`,
          ),
        ]
      : [];
  return [[...blocks, ...rest].join('\n')].filter((text) => text !== '');
}

function unknownState({ text, repositoryOf, candidates }: FoundResult): string {
  if (candidates.length > 0) {
    return 'ambiguous';
  }
  return repositoryOf === null && text.includes('/') ? 'foreign' : 'unknown';
}

/** A long digest is shortened: the document has it in full. */
function inShort(text: string): string {
  return text.replace(/(sha(?:256|512):[a-f0-9]{12})[a-f0-9]{52,}$/, '$1…');
}

/** Which components of which releases something is: by the release that the environment has, or else by the latest. */
function namesOf({ components, platform, candidates, environments }: FoundResult, environment: string | null): string {
  if (candidates.length > 0) {
    return formatCount(candidates.length, 'digest');
  }
  return components
    .map(({ component, releases }) => {
      const there = environments.find((each) => each.environment === environment && each.component === component);
      const release = there?.release ?? releases[0];
      return [
        component,
        ...(release === undefined ? [] : [releaseName(release)]),
        ...(platform === null ? [] : [platform]),
      ].join(' ');
    })
    .join(', ');
}

/** How something stands: to the environment that is asked about, or to all of them in a word each. */
function detailOf(
  { text, components, candidates, environments, repositoryOf, verdict, tag }: FoundResult,
  environment: string | null,
  now: Date,
): string {
  if (components.length === 0 && candidates.length === 0) {
    return unknownDetail({ repositoryOf, tag, text });
  }
  if (environment === null) {
    return environments
      .map(
        ({ environment: name, state, releasesBehind }) =>
          `${name} ${state}${state === 'behind' && releasesBehind !== null ? ` by ${releasesBehind}` : ''}`,
      )
      .join(' · ');
  }
  if (verdict === 'elsewhere') {
    return `the digest is right; the reference names another repository (of ${(repositoryOf ?? []).join(' and ')})`;
  }
  if (verdict === 'moving') {
    return 'this tag moves: it does not say what was pulled';
  }
  return environments
    .filter((each) => each.environment === environment)
    .map((each) => standingText(each, now))
    .join('; ');
}

/** What is known of a commit. */
function commitBlock(of: CommitResult, { several, now }: { several: boolean; now: Date }, style: Style): string {
  const { text, commit, author, at, subject, picks, first, environments, waiting, incomplete } = of;
  const name = text === commit || commit.startsWith(text) ? '' : ` (${text})`;
  const told = [
    ...(subject === null ? [] : [`"${subject}"`]),
    ...(author === null || at === null ? [] : [`by ${author}, ${moment(at, now)}`]),
  ];
  return [
    `${several ? `${of.product}: ` : ''}commit ${style.strong(shortCommit(commit))}${name}${told.length === 0 ? '' : `  ${told.join(' ')}`}`,
    ...picks.map(({ commit: pick, by }) =>
      style.faint(
        `  repeated as ${shortCommit(pick)} (${by === 'changes' ? 'the same changes' : 'its message says so'})`,
      ),
    ),
    ...(first.length === 0
      ? [`  ${style.notice('No release contains it.')}`]
      : first.map((release) => {
          const names =
            first.length === 1 ? '' : `: ${nameList(release.components.map((component) => ({ component })))}`;
          return `  first released as ${style.strong(releaseName(release))}, published ${moment(release.published, now)} by ${release.by}${names}`;
        })),
    ...reachLines(environments, waiting, now, style),
    ...(incomplete
      ? [
          style.notice(
            '  Git here lacks some of the commits: what is unknown may be in. `git fetch --unshallow --tags` brings them.',
          ),
        ]
      : []),
  ].join('\n');
}

function reachLines(all: readonly Reach[], waiting: CommitResult['waiting'], now: Date, style: Style): string[] {
  const rows = grouped(all, (reach) => ({ ...reach, component: '' })).map((group) => {
    const [reach] = group;
    const own = all.filter(({ environment }) => environment === reach.environment);
    const names = own.length === group.length ? '' : `: ${nameList(group)}`;
    return [reach.environment, reachStateText(reach), `${reachText(reach, now)}${names}${waitingText(reach, waiting)}`];
  });
  return columns(rows, '  ', (text, column) =>
    column === 1 ? paintState(text, style) : column === 0 ? style.strong(text) : text,
  );
}

function reachStateText({ state }: Reach): string {
  return { in: 'in', 'was-in': 'no longer in', 'not-in': 'not in', unknown: 'unknown' }[state];
}

function reachText({ environment, state, line, since, serves, release, withdrawn }: Reach, now: Date): string {
  const instead = `${environment} serves ${releaseName(serves)}`;
  switch (state) {
    case 'in':
      return `${line === null ? '' : `on line ${line} `}since ${moment(since, now)}, with ${release === null ? '' : releaseName(release)}`;
    case 'was-in':
      return withdrawn === null
        ? `${release === null ? '' : releaseName(release)} came on ${moment(since, now)}; ${instead} now`
        : `${rolledBack(environment, release, withdrawn, now)}; ${instead}`;
    case 'not-in':
    case 'unknown':
      return instead;
  }
}

function waitingText({ environment, state, withdrawn }: Reach, waiting: CommitResult['waiting']): string {
  const found = waiting.find((each) => each.environment === environment);
  if (withdrawn !== null) {
    return '; it can return only with `--again`';
  }
  if (found === undefined || state === 'in') {
    return '';
  }
  const unmet = found.unmet.map(({ gate, detail }) => `${gate} (${detail.replaceAll('\n', '; ')})`);
  return unmet.length === 0
    ? `; nothing is in its way: \`hod promote ${environment}\``
    : `; waits for ${unmet.join(', ')}`;
}

/** A moment, and how long ago that was. */
function moment(time: string | null, now: Date): string {
  if (time === null) {
    return 'an unknown time';
  }
  return formatPast(time, now);
}

/** The same, as tables of Markdown. */
export function identifyMarkdown(result: IdentifyResult, now: Date): string {
  const { found, commits, in: environment } = result;
  const rows = found.map((each) => {
    const state = each.verdict ?? (each.product === null ? unknownState(each) : '');
    return `| ${state} | ${codeReference(each.text)} | ${cell(namesOf(each, environment))} | ${cell(detailOf(each, environment, now))} |`;
  });
  const reaches = commits.flatMap(({ commit, environments, waiting }) =>
    environments.map((each) => {
      const text = `${reachText(each, now)}${waitingText(each, waiting)}`;
      return `| \`${shortCommit(commit)}\` | ${each.environment} | ${each.component} | ${reachStateText(each)} | ${cell(text)} |`;
    }),
  );
  return [
    ...(reaches.length === 0
      ? []
      : ['| commit | environment | component | state | since |', '| --- | --- | --- | --- | --- |', ...reaches, '']),
    ...(rows.length === 0
      ? []
      : ['| state | what was found | release | where |', '| --- | --- | --- | --- |', ...rows, '']),
    ...summaryLines(result, plainStyle),
  ].join('\n');
}

const same = (text: string): string => text;
const plainStyle: Style = { strong: same, faint: same, good: same, notice: same, bad: same };
