import stringWidth from 'string-width';
import type { Look } from '../../src/cli/answer';
import { accessView } from '../../src/cli/views/access';
import { compareView } from '../../src/cli/views/compare';
import { promoteView, publishView } from '../../src/cli/views/delivery';
import { initView } from '../../src/cli/views/init';
import { insideView } from '../../src/cli/views/inside';
import { pointView } from '../../src/cli/views/point';
import { proveView } from '../../src/cli/views/prove';
import { rollbackView } from '../../src/cli/views/rollback';
import { showView } from '../../src/cli/views/show';
import { stageView } from '../../src/cli/views/stage';
import { statusView } from '../../src/cli/views/status';
import { styleFor } from '../../src/cli/views/style';
import { tagsView } from '../../src/cli/views/tags';
import { timelineView } from '../../src/cli/views/timeline';
import { wrapped } from '../../src/cli/views/wrap';
import { resultSchemas } from '../../src/results';
import * as made from '../support/made-up-results';

type Draw = (count: number, look: Look) => string;

/** What each command shows of so many images; its document is one that it could answer with. */
const views: Record<string, Draw> = {
  status: (count, look) => statusView(resultSchemas.status.parse(made.statusOf(count)), look, made.now),
  'status, one environment down': (count, look) =>
    statusView(resultSchemas.status.parse(made.statusOf(count, true)), look, made.now),
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
  show: (_, look) => showView(resultSchemas.show.parse(made.shown), look, made.now),
  inside: (_, look) => insideView(resultSchemas.inside.parse(made.lookedInside), look),
  init: (_, look) => initView(resultSchemas.init.parse(made.begun), look),
};
/** Those that say the same whatever the count. */
const ofOne = ['point', 'show', 'inside', 'init'];
const cases = Object.keys(views).flatMap((name) =>
  (ofOne.includes(name) ? [1] : [1, 30, 300]).map((count) => [name, count] as const),
);

function draw(name: string, count: number, width: number, colour: boolean): string {
  const look = { style: styleFor({ isTTY: colour }, colour), width, elapsed: 1_200, guiding: true, verbose: false };
  return wrapped(views[name]?.(count, look) ?? '', width);
}

const codes = /\u001b\[\d+m/g;

beforeAll(() => delete process.env['NO_COLOR']);

test.each(cases)('%s of %i: as it was, at 60, 80 and 140 columns, and the same words in colour', (name, count) => {
  for (const width of [60, 80, 140]) {
    const text = draw(name, count, width, false);
    expect(text).toMatchSnapshot(`${width} columns`);
    const coloured = draw(name, count, width, true);
    expect(coloured.replaceAll(codes, '')).toBe(text);
    expect(codes.test(coloured)).toBe(true);
    // What has no spaces cannot be broken; everything else has room.
    const wide = text
      .split('\n')
      .filter((line) => stringWidth(line) > width && /\S\s+\S/.test(line.slice(0, width).trim()));
    expect(wide).toEqual([]);
  }
  expect(draw(name, count, 80, true)).toMatchSnapshot('in colour');
});

test.each(cases.filter(([name, count]) => count === 300 && name !== 'tags'))(
  '%s of %i fits a screen: what changed comes first, the rest is counted',
  (name, count) => expect(draw(name, count, 140, false).split('\n').length).toBeLessThanOrEqual(54),
);
