import { parseOutputPlace } from '../../src/core/build/output-place';
import { TemplateError } from '../../src/core/tags/template';
import fc from 'fast-check';
import { mkdtemp, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { sha256 } from '../../src/core/oci/digest';
import { HashThreads } from '../../src/registry/hash-threads';
import { Intake, leastBody } from '../../src/registry/intake';
import { contentChecks, requestLimits } from '../../src/workspace/user-memory';

const registry = 'registry.skerry.test';
const hour = 60 * 60 * 1000;

let home: string;
beforeEach(async () => {
  home = await mkdtemp(join(tmpdir(), 'hod-home-'));
  process.env['XDG_CONFIG_HOME'] = home;
});
afterEach(async () => {
  jest.restoreAllMocks();
  delete process.env['XDG_CONFIG_HOME'];
  await rm(home, { recursive: true });
});

/** What a run of its own knows of the registry, and how often it had to find out. */
function newRun() {
  const told: string[] = [];
  const intake = new Intake(registry, {
    checks: contentChecks.of(registry),
    largestBody: requestLimits.of(registry),
    tell: (text) => void told.push(text),
  });
  let probes = 0;
  return {
    intake,
    told,
    probes: () => probes,
    checks: (found: boolean | undefined) =>
      intake.checks(() => {
        probes += 1;
        return Promise.resolve(found);
      }),
  };
}

test('whether a registry checks what it is sent is found out once for each registry, and again after a day', async () => {
  const first = newRun();
  expect(await Promise.all([first.checks(true), first.checks(true)])).toEqual([true, true]);
  const second = newRun();
  expect(await second.checks(false)).toBe(true);
  expect([first.probes(), second.probes()]).toEqual([1, 0]);
  const now = Date.now();
  // A clock that was wrong when it was written down says nothing either.
  for (const later of [25 * hour, -hour]) {
    jest.spyOn(Date, 'now').mockReturnValue(now + later);
    const other = newRun();
    expect([await other.checks(false), other.probes()]).toEqual([false, 1]);
    jest.restoreAllMocks();
    await contentChecks.of(registry).remember(true);
  }
});

test('what could not be told is not remembered, and what failed is asked again', async () => {
  const run = newRun();
  await expect(run.intake.checks(() => Promise.reject(new Error('cut')))).rejects.toThrow('cut');
  expect(await run.checks(undefined)).toBe(false);
  expect(run.told).toEqual([`${registry} was not seen to check what it is sent: blobs are hashed here`]);
  expect(await newRun().checks(true)).toBe(true);
  await writeFile(join(home, 'hod', 'content-checks.json'), '{"registries":{"registry.skerry.test":{"value":"yes"}}}');
  const after = newRun();
  expect([await after.checks(false), after.probes()]).toEqual([false, 1]);
});

test('requests shrink to what passes, once for all that were refused together, and later runs begin there', async () => {
  const { intake } = newRun();
  const usual = await intake.largestBody();
  expect(await Promise.all([intake.refused(usual), intake.refused(usual)])).toEqual([true, true]);
  expect(await intake.largestBody()).toBe(usual / 4);
  let refusals = 0;
  for (let size = usual / 4; await intake.refused(size); size = await intake.largestBody()) {
    refusals += 1;
  }
  expect(await intake.largestBody()).toBe(leastBody);
  expect(refusals).toBeLessThan(8);
  expect(await newRun().intake.largestBody()).toBe(leastBody);
});

test('threads hash what is hashed here, however it comes in pieces', async () => {
  const threads = new HashThreads(4);
  const piece = fc.integer({ min: 0, max: 700_000 });
  await fc.assert(
    fc.asyncProperty(fc.array(fc.array(piece, { maxLength: 4 }), { minLength: 1, maxLength: 3 }), async (blobs) => {
      await Promise.all(
        blobs.map(async (lengths, at) => {
          const whole = Buffer.alloc(
            lengths.reduce((sum, each) => sum + each, 0),
            `blob ${at}`,
          );
          const hasher = threads.hasher(sha256(''));
          // One piece of memory, used again as soon as it was taken.
          const buffer = Buffer.alloc(700_000);
          let from = 0;
          for (const length of lengths) {
            whole.copy(buffer, 0, from, from + length);
            await hasher.update(buffer.subarray(0, length));
            buffer.fill(0);
            from += length;
          }
          expect(await hasher.digest()).toBe(sha256(whole));
        }),
      );
    }),
    { numRuns: 30 },
  );
  await threads.close();
});

test('a build output is a reference where it begins with a registry and ends with a tag or a digest, and no file has that name', () => {
  const kindOf = (text: string, files: readonly string[] = []): string => {
    const place = parseOutputPlace(text, (path) => files.includes(path));
    return place.kind === 'path'
      ? `path ${place.path}`
      : `${place.repository} ${place.tag?.text ?? place.digest ?? ''}`;
  };
  const digest = `sha256:${'0'.repeat(64)}`;
  for (const [text, expected, files] of [
    ['out/timetable', 'path out/timetable'],
    ['out/all.tar#skerry/timetable:2.4', 'path out/all.tar#skerry/timetable:2.4'],
    ['out.d/timetable', 'path out.d/timetable'],
    ['./b.test/timetable:1', 'path ./b.test/timetable:1'],
    ['../b.test/timetable:1', 'path ../b.test/timetable:1'],
    ['/b.test/timetable:1', 'path /b.test/timetable:1'],
    ['b.test/timetable:1', 'b.test/timetable 1'],
    ['b.test/timetable:1', 'path b.test/timetable:1', ['b.test/timetable:1']],
    ['registry:b.test/timetable:1', 'b.test/timetable 1', ['b.test/timetable:1']],
    ['b.test:5000/skerry/{image}:c-{commit:12}', 'b.test:5000/skerry/{image} c-{commit:12}'],
    ['localhost/timetable:1', 'localhost/timetable 1'],
    [`b.test/timetable@${digest}`, `b.test/timetable ${digest}`],
  ] as const) {
    expect([text, kindOf(text, files)]).toEqual([text, expected]);
  }
  for (const wrong of ['registry:b.test/timetable', 'registry:b.test:5000/timetable', 'b.test/timetable:{revision}']) {
    expect(() => kindOf(wrong)).toThrow(TemplateError);
  }
  expect(() => kindOf('b.test/timetable@sha256:12')).toThrow();
});
