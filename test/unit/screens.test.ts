import stringWidth from 'string-width';
import type { Screen } from '../../src/cli/answer';
import { accessView, storedView } from '../../src/cli/views/access';
import { announceView } from '../../src/cli/views/announce';
import { assembleView } from '../../src/cli/views/assemble';
import { boardView } from '../../src/cli/views/board';
import { compareView } from '../../src/cli/views/compare';
import { configCompareView, configShowView, configView } from '../../src/cli/views/config';
import { promoteView, publishView } from '../../src/cli/views/delivery';
import { adoptView } from '../../src/cli/views/adopt';
import { carryView } from '../../src/cli/views/carry';
import { packView } from '../../src/cli/views/pack';
import { unpackView } from '../../src/cli/views/unpack';
import { identifyView } from '../../src/cli/views/identify';
import { initView } from '../../src/cli/views/init';
import { insideView } from '../../src/cli/views/inside';
import { acceptView, compactView, exportView, importView, ledgerView, rebuildView } from '../../src/cli/views/ledger';
import { pointView } from '../../src/cli/views/point';
import { proveView } from '../../src/cli/views/prove';
import { resultView, rulesView, signOffView } from '../../src/cli/views/record';
import { rollbackView } from '../../src/cli/views/rollback';
import { sandboxView } from '../../src/cli/views/sandbox';
import { showView } from '../../src/cli/views/show';
import { stageView } from '../../src/cli/views/stage';
import { statusView } from '../../src/cli/views/status';
import { styleFor } from '../../src/cli/views/style';
import { repositoriesView, tagsView } from '../../src/cli/views/tags';
import { timelineView } from '../../src/cli/views/timeline';
import { touchedView } from '../../src/cli/views/touched';
import { wrapped } from '../../src/cli/views/wrap';
import { resultSchemas } from '../../src/results';
import { tidyView } from '../../src/cli/views/tidy';
import { tidyHereView } from '../../src/cli/views/tidy-here';
import { madeUpBoard } from '../support/made-up-board';
import * as made from '../support/made-up-results';

type Draw = (count: number, look: Screen) => string;

/** What each command shows of so many images; its document is one that it could answer with. */
const views: Record<string, Draw> = {
  status: (count, look) => statusView(resultSchemas.status.parse(made.statusOf(count)), look, made.now),
  'status, one environment down': (count, look) =>
    statusView(resultSchemas.status.parse(made.statusOf(count, true)), look, made.now),
  adopt: (count, look) => adoptView(resultSchemas.adopt.parse(made.adopted(count)), look),
  carry: (_, look) => carryView(resultSchemas.carry.parse(made.carried), look),
  pack: (count, look) => packView(resultSchemas.pack.parse(made.packed(count)), look),
  unpack: (count, look) => unpackView(resultSchemas.unpack.parse(made.unpackedOf(count)), look),
  stage: (count, look) => stageView(resultSchemas.stage.parse(made.staged(count)), look),
  publish: (count, look) => publishView(resultSchemas.publish.parse(made.published(count)), look),
  promote: (count, look) => promoteView(resultSchemas.promote.parse(made.promoted(count)), look),
  'promote, refused': (count, look) => promoteView(resultSchemas.promote.parse(made.notPromoted(count)), look),
  rollback: (count, look) => rollbackView(resultSchemas.rollback.parse(made.rolledBack(count)), look),
  timeline: (count, look) => timelineView(resultSchemas.timeline.parse(made.timelineOf(count)), look, made.now),
  compare: (count, look) => compareView(resultSchemas.compare.parse(made.compared(count)), look),
  prove: (count, look) => proveView(resultSchemas.prove.parse(made.proved(count)), look),
  'access check': (count, look) => accessView(resultSchemas['access-check'].parse(made.accessOf(count)), look),
  tags: (count, look) => tagsView(resultSchemas.tags.parse(made.tagsOf(count)), look, made.now),
  point: (_, look) => pointView(resultSchemas.point.parse(made.pointed), look),
  tidy: (count, look) => tidyView(resultSchemas.tidy.parse(made.tidied(count)), look),
  'tidy, no registry answers': (_, look) => tidyView(resultSchemas.tidy.parse(made.notTidied), look),
  'tidy --here': (_, look) => tidyHereView(resultSchemas['tidy-here'].parse(made.tidiedHere), look),
  show: (_, look) => showView(resultSchemas.show.parse(made.shown), look, made.now),
  identify: (count, look) => identifyView(resultSchemas.identify.parse(made.identified(count)), look, made.now),
  inside: (_, look) => insideView(resultSchemas.inside.parse(made.lookedInside), look),
  announce: (_, look) => announceView(resultSchemas.announce.parse(made.announced), look),
  assemble: (_, look) => assembleView(resultSchemas.assemble.parse(made.assembled), look),
  board: (_, look) =>
    boardView(
      { ...madeUpBoard({ components: 3, releases: 20, days: 9 }, made.now), file: 'board.html', bytes: 1_300_000 },
      look,
    ),
  'config check': (_, look) => configView(resultSchemas['config-check'].parse(made.checked), look),
  'config compare': (count, look) =>
    configCompareView(resultSchemas['config-compare'].parse(made.rulesCompared(count)), look),
  'record rules': (count, look) => rulesView(resultSchemas['record-rules'].parse(made.rulesAccepted(count)), look),
  'config show': (count, look) => configShowView(resultSchemas['config-show'].parse(made.configured(count)), look),
  'ledger verify': (_, look) => ledgerView(resultSchemas['ledger-verify'].parse(made.verified), look),
  'ledger accept': (_, look) => acceptView(resultSchemas['ledger-accept'].parse(made.accepted), look),
  'ledger compact': (_, look) => compactView(resultSchemas['ledger-compact'].parse(made.compacted), look),
  'ledger export': (_, look) => exportView(resultSchemas['ledger-copy'].parse(made.copied), look),
  'ledger import': (_, look) => importView(resultSchemas['ledger-copy'].parse(made.copied), look),
  'ledger rebuild': (count, look) => rebuildView(resultSchemas['ledger-rebuild'].parse(made.rebuilt(count)), look),
  'record result': (_, look) => resultView(resultSchemas['record-result'].parse(made.recorded), look),
  'record sign-off': (_, look) => signOffView(made.recorded, look),
  'access list': (_, look) => storedView(resultSchemas['stored-logins'].parse(made.stored), look),
  touched: (count) => touchedView(resultSchemas.touched.parse(made.touchedOf(count))),
  repositories: (count, look) => repositoriesView(resultSchemas.repositories.parse(made.listed(count)), look),
  sandbox: (_, look) => sandboxView(resultSchemas.sandbox.parse(made.stands), look),
  init: (_, look) => initView(resultSchemas.init.parse(made.begun), look),
};
/** Those that say the same whatever the count. */
const ofOne = [
  ...[
    'point',
    'show',
    'inside',
    'init',
    'announce',
    'assemble',
    'carry',
    'board',
    'tidy, no registry answers',
    'tidy --here',
    'config check',
    'ledger verify',
    'ledger accept',
    'ledger compact',
    'ledger export',
  ],
  ...['ledger import', 'record result', 'record sign-off', 'access list', 'sandbox'],
];
const cases = Object.keys(views).flatMap((name) =>
  (ofOne.includes(name) ? [1] : [1, 30, 300]).map((count) => [name, count] as const),
);

/** What people read through, or scripts read: all of it is there. */
const lists = ['tags', 'touched', 'repositories', 'config show'];
/** A line for each name, and nothing else: it is for scripts. */
const plain = ['touched'];

function draw(name: string, count: number, width: number, colour: boolean): string {
  const look = {
    style: styleFor({ isTTY: colour }, { color: colour }),
    width,
    elapsed: 1_200,
    guiding: true,
    verbose: false,
  };
  return wrapped(views[name]?.(count, look) ?? '', width);
}

const codes = /\u001b\[\d+m/g;

beforeAll(() => delete process.env['NO_COLOR']);

test.each(cases)('%s of %i fits 60, 80 and 140 columns, with the same words in colour', (name, count) => {
  for (const width of [60, 80, 140]) {
    const text = draw(name, count, width, false);
    const coloured = draw(name, count, width, true);
    expect(coloured.replaceAll(codes, '')).toBe(text);
    expect(coloured === text).toBe(plain.includes(name));
    // What has no spaces cannot be broken; everything else has room.
    const wide = text
      .split('\n')
      .filter((line) => stringWidth(line) > width && /\S\s+\S/.test(line.slice(0, width).trim()));
    expect(wide).toEqual([]);
  }
});

/** Read them from start to end when they change: this is what people read. */
test.each(cases.filter(([, count]) => count < 300))('%s of %i is as it was', (name, count) => {
  expect(draw(name, count, 80, false)).toMatchSnapshot();
});

test.each(cases.filter(([name, count]) => count === 300 && !lists.includes(name)))(
  '%s of %i fits a screen: what changed comes first, the rest is counted',
  (name, count) => expect(draw(name, count, 140, false).split('\n').length).toBeLessThanOrEqual(54),
);
