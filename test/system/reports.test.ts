import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { hodJson } from '../support/hod';
import { OtherClient } from '../support/other-client';
import { sandboxWorld, type SandboxWorld } from '../support/world';

/** What tools say in their reports decides, by the rules of hod.yaml; three made-up tools for each format. */

let sandbox: SandboxWorld;
let file: (name: string, text: string) => string;
const record = (...args: string[]) => hodJson('record-result', ['record', 'result', ...args], sandbox.world.options);
const why = (error: { why: unknown }): string => [error.why].flat().join('\n');
const day = (count: number): string => new Date(Date.now() + count * 86_400_000).toISOString();

beforeAll(async () => {
  sandbox = await sandboxWorld();
  const { world } = sandbox;
  file = (name, text) => {
    writeFileSync(join(world.product.folder, name), text);
    return name;
  };
  file('exceptions.yaml', '[]\n');
  await world.configure(
    '    tags: { fixed: ["{version}"], moving: [uat] }',
    '$&\n    gates: { results: [{ name: scan, at-most: { critical: 0, high: 1 }, no-older-than: 7d, except: exceptions.yaml }, { name: tests, no-older-than: 2d }] }',
  );
  await world.publish();
});
afterAll(() => sandbox.close());

const sarif = (results: object[], more: object = {}, rules: object[] = []): string =>
  JSON.stringify({
    version: '2.1.0',
    runs: [
      {
        tool: { driver: { name: 'gull-scan', version: '3.1', rules } },
        invocations: [{ executionSuccessful: true, endTimeUtc: day(-1) }],
        results,
        ...more,
      },
    ],
  });
const vulnerabilities = (all: object[], more: object = {}): string =>
  JSON.stringify({
    ...{ bomFormat: 'CycloneDX', specVersion: '1.5' },
    metadata: { timestamp: day(-2), tools: { components: [{ name: 'tern-audit', version: '2' }] } },
    vulnerabilities: all,
    ...more,
  });

const findingReports: [string, string, object][] = [
  [
    'SARIF by levels',
    sarif([
      { ruleId: 'A', level: 'error' },
      { ruleId: 'A', level: 'error' },
      { ruleId: 'B' },
      { ruleId: 'C', level: 'note' },
      { ruleId: 'D', kind: 'pass' },
      { ruleId: 'E', level: 'error', baselineState: 'absent' },
    ]),
    { critical: 0, high: 2, medium: 1, low: 1, unknown: 0, none: 0 },
  ],
  [
    'SARIF by scores of rules, whatever it suppresses',
    sarif(
      [{ ruleId: 'A', suppressions: [{ kind: 'external' }] }, { ruleIndex: 1 }, { ruleId: 'B/sub', level: 'note' }],
      {},
      [
        { id: 'A', properties: { 'security-severity': '9.8' } },
        { id: 'B', properties: { 'security-severity': '5.0' } },
      ],
    ),
    { critical: 1, high: 0, medium: 2, low: 0, unknown: 0, none: 0 },
  ],
  ['SARIF without results', sarif([]), { critical: 0, high: 0, medium: 0, low: 0, unknown: 0, none: 0 }],
  [
    'CycloneDX by severities',
    vulnerabilities([
      { id: 'V-1', ratings: [{ severity: 'low' }, { severity: 'critical' }] },
      { id: 'V-2', ratings: [{ severity: 'info' }] },
      { id: 'V-3' },
    ]),
    { critical: 1, high: 0, medium: 0, low: 0, unknown: 1, none: 1 },
  ],
  [
    'CycloneDX by scores, whatever its analysis says, with tools of the older form',
    vulnerabilities([{ id: 'V-1', ratings: [{ score: 7.5 }], analysis: { state: 'false_positive' } }], {
      metadata: { timestamp: day(-2), tools: [{ name: 'petrel' }] },
    }),
    { critical: 0, high: 1, medium: 0, low: 0, unknown: 0, none: 0 },
  ],
  [
    'CycloneDX without weaknesses',
    vulnerabilities([]),
    { critical: 0, high: 0, medium: 0, low: 0, unknown: 0, none: 0 },
  ],
];

test.each(findingReports)('findings: %s', async (_, text, findings) => {
  const result = await record('scan', '--in', 'dev', '--dry-run', '--report', file('report.json', text));
  expect(result.report).toMatchObject({ findings, tests: null });
});

const suites = (inside: string): string => `<?xml version="1.0" encoding="UTF-8"?>\n<testsuites>${inside}</testsuites>`;
// What `count(//testcase[failure or error])` and its like say of them, as XPath.
test.each<[string, string, { passed: number; failed: number; skipped: number }]>([
  [
    'several suites',
    suites(
      '<testsuite name="pier" timestamp="2026-11-30T10:00:00"><testcase name="a"/><testcase name="b"><failure>no</failure></testcase></testsuite><testsuite name="gauge"><testcase name="c"><skipped/></testcase><testcase name="d"/></testsuite>',
    ),
    { passed: 2, failed: 1, skipped: 1 },
  ],
  [
    'one suite, with nested ones, sums that lie, and output that looks like a test',
    '<testsuite name="line" tests="99"><testsuite><testcase name="a"><error/><error/></testcase></testsuite><testcase name="b"><system-out><![CDATA[<testcase/>]]></system-out></testcase></testsuite>',
    { passed: 1, failed: 1, skipped: 0 },
  ],
  ['all passed', suites('<testsuite name="x"><testcase name="a"/></testsuite>'), { passed: 1, failed: 0, skipped: 0 }],
  [
    'a suite that fails outside of its tests',
    suites('<testsuite><error/><testcase/></testsuite>'),
    { passed: 1, failed: 1, skipped: 0 },
  ],
  ['no test at all', suites(''), { passed: 0, failed: 0, skipped: 0 }],
])('tests: %s', async (_, text, tests) => {
  const result = await record('tests', '--in', 'dev', '--dry-run', '--report', file('report.xml', text));
  expect(result.report?.tests).toEqual(tests);
  expect(result.passed).toBe(tests.failed === 0 && tests.passed > 0);
});

test.each<[string, string, RegExp]>([
  ['no report', '{}', /neither SARIF/],
  ['an older SARIF', '{"version":"2.0.0","runs":[]}', /version: is not 2.1.0/],
  ['a bill of materials alone', '{"bomFormat":"CycloneDX","specVersion":"1.5"}', /vulnerabilities: is missing/],
  ['an older CycloneDX', '{"bomFormat":"CycloneDX","specVersion":"1.4","vulnerabilities":[]}', /is not 1.5 or later/],
  ['JSON that is cut', '{"runs":[', /it is not JSON/],
  ['a key twice', '{"runs":[],"runs":[],"version":"2.1.0"}', /stands in it twice/],
  ['levels', `{"runs":${'['.repeat(100)}${']'.repeat(100)}}`, /deeper than 64/],
  ['other XML', '<html/>', /begins with <html>/],
  ['XML that is cut', '<testsuites><testsuite>', /unclosed/],
  [
    'entities that grow',
    '<!DOCTYPE t [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><testsuites>&b;</testsuites>',
    /declares a document type/,
  ],
  [
    'a file of this machine',
    '<!DOCTYPE t [<!ENTITY f SYSTEM "file:///etc/passwd">]><testsuites>&f;</testsuites>',
    /declares a document type/,
  ],
  ['levels of XML', `${'<testsuite>'.repeat(100)}${'</testsuite>'.repeat(100)}`, /deeper than 64/],
  ['100 MB', ' '.repeat(100 * 1024 * 1024), /at most 33554432 are read/],
])('a report that is none is refused, and nothing is recorded: %s', async (_, text, reason) => {
  const { world } = sandbox;
  const error = await world.fails(
    'report-unusable',
    'record',
    'result',
    'scan',
    '--in',
    'dev',
    '--report',
    file('bad', text),
  );
  expect(why(error)).toMatch(reason);
});

test('the rules of hod.yaml decide, not the job: counts, exceptions with an end, and age', async () => {
  const { world } = sandbox;
  const promote = () => world.fails('result-missing', 'promote', 'uat');
  await record(
    'tests',
    '--in',
    'dev',
    '--report',
    file('tests.xml', suites('<testsuite name="x"><testcase name="a"/></testsuite>')),
  );
  await record('scan', '--passed', '--in', 'dev');
  expect(why(await promote())).toContain('no report of findings was recorded with it');
  const two = [
    { ruleId: 'A', level: 'error' },
    { ruleId: 'B', level: 'error' },
  ];
  const recorded = await record('scan', '--in', 'dev', '--report', file('scan.sarif', sarif(two)));
  expect(recorded).toMatchObject({ passed: false, report: { tool: 'gull-scan 3.1', format: 'sarif' } });
  expect(why(await promote())).toMatch(/2 high, at most 1$/);
  const except = (until: string) =>
    file('exceptions.yaml', `- { id: B, reason: not reachable, by: siv@skerry.test, until: ${until} }\n`);
  except(day(-1));
  expect(why(await promote())).toMatch(/2 high, at most 1; the exception of B ended on 20/);
  const expiring = async () =>
    (await world.status()).expiring.map(({ kind, name, of, isOver }) => [kind, name, of, isOver] as const);
  expect(await expiring()).toContainEqual(['exception', 'B', null, true]);
  except(day(11));
  expect((await expiring()).filter(([kind]) => kind === 'exception')).toEqual([]);
  file('exceptions.yaml', '- { id: B, reason: forever, by: siv@skerry.test }\n');
  expect(why(await world.fails('file-unusable', 'promote', 'uat'))).toContain('[0].until');
  except(day(5));
  await record(
    'scan',
    '--in',
    'dev',
    '--report',
    file('old.sarif', sarif(two, { invocations: [{ endTimeUtc: day(-8) }] })),
  );
  expect(why(await promote())).toMatch(/the result of 20.* expired after 7 d/);
  await record(
    'scan',
    '--in',
    'dev',
    '--report',
    file('late.sarif', sarif(two, { invocations: [{ endTimeUtc: day(1) }] })),
  );
  expect(why(await promote())).toContain('in the future; check the clock');
  await record('scan', '--in', 'dev', '--report', 'scan.sarif');
  expect(await expiring()).toEqual([
    ['result', 'tests', '2.4.0', false],
    ['exception', 'B', null, false],
    ['result', 'scan', '2.4.0', false],
  ]);
  expect((await world.hod('status')).stdout).toMatch(
    /^expires {2}uat: tests of 2\.4\.0 in 47 h \d+ min \(20\d\d-\d\d-\d\d \d\d:\d\d UTC\)$/m,
  );
  const promoted = await world.promote('uat');
  expect(promoted.gates).toContainEqual(
    expect.objectContaining({
      gate: 'result scan',
      detail: expect.stringMatching(/gull-scan 3\.1: 2 high; expires in .*20/),
    }),
  );
  // The report travels with what it is about.
  const uat = new OtherClient(world.ports.uat, 'skerry/timetable');
  const { digest } = await uat.subject('2.4.0');
  const types = (await uat.referrers(digest)).map(({ artifactType }) => artifactType);
  expect(types.filter((type) => type === 'application/sarif+json').length).toBe(3);
  expect(types).toContain('application/junit+xml');
  expect((await hodJson('prove', ['prove', 'uat'], world.options)).environments[0]?.findings).toEqual([]);
});
