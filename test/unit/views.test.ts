import fc from 'fast-check';
import { sha256 } from '../../src/core/oci/digest';
import { LiveLines } from '../../src/cli/live-lines';
import { Progress } from '../../src/cli/progress';
import { publishView } from '../../src/cli/views/delivery';
import { styleFor } from '../../src/cli/views/style';
import type { DeliveredResult } from '../../src/results/delivery';
import type { PublishResult } from '../../src/results/publish';

const digest = `sha256:${'0'.repeat(64)}`;
type Outcome = DeliveredResult['tags'][number]['outcome'];
const look = (verbose: boolean) => ({
  style: styleFor({ isTTY: false }, { color: false }),
  elapsed: 1000,
  width: 120,
  guiding: false,
  verbose,
});

/** What publishing answers where each image's one tag fared so. */
function published(outcomes: readonly Outcome[]): PublishResult {
  return {
    product: 'skerry-line',
    version: '2.4.0',
    versioning: { outcome: 'given', reason: 'as the git tag says' },
    commit: 'c'.repeat(40),
    branch: 'main',
    build: null,
    environment: 'dev',
    dryRun: false,
    next: [],
    gates: [],
    leftovers: [],
    gitTag: null,
    retires: [],
    renames: [],
    moved: null,
    components: outcomes.map((outcome, at) => ({
      component: `pier-${at + 1}`,
      kind: 'image',
      artifactType: null,
      repository: `dev.test/skerry/pier-${at + 1}`,
      digest,
      mediaType: 'm',
      platforms: ['linux/amd64'],
      included: null,
      way: 'takes-over',
      wayReason: 'it comes after 2.3.9',
      sameCommit: false,
      serves: '2.4.0',
      tags: [{ tag: 'main', kind: 'moving', platform: null, outcome, reason: `it was ${outcome}`, drift: null }],
      omitted: [],
      referrers: { brought: 0, present: 0, left: [] },
      transfer: { blobsSent: 0, blobsMounted: 0, blobsPresent: 4, bytesSent: 0, requests: 3 },
    })),
  };
}
const many = (count: number, outcome: Outcome): Outcome[] => Array<Outcome>(count).fill(outcome);
const lines = (outcomes: readonly Outcome[], verbose = false) =>
  publishView(published(outcomes), look(verbose)).split('\n');

test('30 unchanged images fit a screen, and are counted', () => {
  const text = lines(many(30, 'unchanged'));
  expect(text.length).toBeLessThan(12);
  expect(text.join('\n')).toContain(
    'unchanged: pier-1, pier-2, pier-3, pier-4, pier-5, pier-6 and 24 more (30 components)',
  );
  expect(text.join('\n')).toContain('Tags:  30 unchanged');
});

test('a protection tag that stays is told once, and never as something that may simply go', () => {
  const view = (outcome: Outcome) =>
    publishView({ ...published([outcome]), leftovers: ['dev.test/skerry/pier-1:hod-staged-1'] }, look(false));
  expect(view('created')).toMatch(
    /one tag,\nhod-staged, protects all[^]*Before you remove one of these tags, check[^]*hod-staged-1/,
  );
  expect(view('unchanged')).not.toContain('hod-staged-1');
});

test('what changed comes first, then what was held, its reason once; the rest is counted', () => {
  const text = lines([...many(24, 'unchanged'), ...many(4, 'held'), ...many(2, 'moved')]);
  expect(text.length).toBeLessThan(24);
  const at = (part: string) => text.findIndex((line) => line.includes(part));
  expect(at('pier-29')).toBeLessThan(at('pier-25'));
  expect(at('pier-25')).toBeLessThan(at('unchanged: pier-1'));
  expect(text.filter((line) => line.includes('it was held'))).toHaveLength(1);
  expect(text.filter((line) => line.includes('sha256:'))).toHaveLength(2);
  expect(text).toContain('Tags:  2 moved, 4 held, 24 unchanged');
});

test('verbose: every image by itself', () => {
  const text = lines(many(30, 'unchanged'), true);
  expect(text.filter((line) => line.includes('@sha256:'))).toHaveLength(30);
  expect(text.filter((line) => line.includes('it was unchanged'))).toHaveLength(30);
});

/** As much of a terminal as live lines need: what it shows, and whether the cursor is to be seen. */
class Screen {
  readonly lines = [''];
  readonly columns = 40;
  cursor = true;

  constructor(readonly rows: number) {}

  write(text: string): void {
    for (const [token] of text.matchAll(/\x1b\[\??\d*[A-Za-z]|[^\x1b]/g)) {
      const up = /^\x1b\[(\d+)A$/.exec(token)?.[1];
      if (up !== undefined) {
        // What has left the window cannot be reached again.
        expect(Number(up)).toBeLessThan(this.rows);
        this.lines.length -= Number(up);
      } else if (token === '\x1b[J') {
        this.lines[this.lines.length - 1] = '';
      } else if (token === '\n') {
        this.lines.push('');
      } else if (token.startsWith('\x1b[?25')) {
        this.cursor = token.endsWith('h');
      } else if (token !== '\r') {
        this.lines.push((this.lines.pop() ?? '') + token);
        expect(this.lines.at(-1)?.length).toBeLessThan(this.columns);
      }
    }
  }
}

test('live lines leave nothing on a terminal but the lines that are to stay, whatever is sent and however small it is', () => {
  jest.useFakeTimers();
  const digests = ['a', 'b', 'c', 'd', 'e'].map((text) => sha256(text));
  fc.assert(
    fc.property(
      fc.integer({ min: 2, max: 9 }),
      fc.array(fc.tuple(fc.nat(4), fc.constantFrom('begin', 'sent', 'end', 'above', 'time')), { maxLength: 60 }),
      (rows, steps) => {
        const screen = new Screen(rows);
        const live = new LiveLines(screen, styleFor({}, { color: false }));
        const progress = new Progress();
        const kept: string[] = [];
        for (const [at, step] of steps) {
          const digest = digests[at] ?? digests[0];
          if (step === 'time') {
            jest.advanceTimersByTime(200);
          } else if (step === 'above') {
            kept.push(`note ${kept.length}`);
            live.above(kept.at(-1) ?? '');
          } else if (digest !== undefined && step === 'begin') {
            progress.begin(100, 0);
            live.begin(digest, 'registry.test/skerry/timetable', 100);
          } else if (digest !== undefined && step === 'sent') {
            progress.sent(30);
            live.sent(digest, 30, progress);
          } else if (digest !== undefined) {
            live.end(digest);
          }
        }
        live.stop();
        jest.runAllTimers();
        expect([screen.lines, screen.cursor]).toEqual([[...kept, ''], true]);
      },
    ),
  );
  jest.useRealTimers();
});
