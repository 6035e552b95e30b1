import fc from 'fast-check';
import { parseAllDocuments } from 'yaml';
import type { Target } from '../../src/core/deployment/parts';
import { point } from '../../src/core/deployment/pointing';
import { readsTheSame, spotsIn } from '../../src/core/deployment/spots';
import { sha256 } from '../../src/core/oci/digest';
import { formatRepository, parseRepository } from '../../src/core/oci/reference';

const repository = formatRepository(parseRepository('registry.skerry.test/line/timetable'));
const digest = sha256('timetable 2.5.0');
const targets: Target[] = [{ component: 'timetable', repository, serves: { repository, digest, name: '2.5.0' } }];
const run = (text: string, extension = '.yaml') => point(text, spotsIn(text, extension), targets);

/** Values that are not written as they read. What is written is `<>`, where the repository stands. */
test.each<[name: string, text: string, after: string, extension?: string]>([
  ['an empty digest', 'repository: <>\ndigest:\n', `repository: <>\ndigest: ${digest}\n`],
  [
    'an empty tag before a comment',
    'a:\n  repository: <>\n  tag: # the version\n',
    `a:\n  repository: <>\n  tag: 2.5.0@${digest} # the version\n`,
  ],
  [
    'an empty tag in a flow',
    '{ repository: <>, tag: , digest: ~ }\n',
    `{ repository: <>, tag: 2.5.0 , digest: ${digest} }\n`,
  ],
  ['a tag that is empty in quotes', 'repository: <>\ntag: ""\n', `repository: <>\ntag: "2.5.0@${digest}"\n`],
  ['null in JSON', '{"repository":"<>","digest":null}', `{"repository":"<>","digest":"${digest}"}`, '.json'],
  ['a number in JSON', '{"repository":"<>","tag":2.4}', `{"repository":"<>","tag":"2.5.0@${digest}"}`, '.json'],
  ['a tag that is a number', 'repository: <>\ntag: 2.4\n', `repository: <>\ntag: 2.5.0@${digest}\n`],
  ['a header with a comment', 'run: | # <>:2.4.0\n  <>:2.4.0\n', `run: | # <>:2.4.0\n  <>@${digest}\n`],
  [
    'a registry beside the repository',
    'registry: registry.skerry.test\nrepository: line/timetable\ntag: "2.4"\n',
    `registry: registry.skerry.test\nrepository: line/timetable\ntag: "2.5.0@${digest}"\n`,
  ],
  [
    'a registry with a path, a digest, and the order that JSON has',
    '{"tag":"2.4","digest":"","repository":"timetable","registry":"registry.skerry.test/line"}',
    `{"tag":"2.5.0","digest":"${digest}","repository":"timetable","registry":"registry.skerry.test/line"}`,
    '.json',
  ],
  [
    'a registry beside an image with its version',
    'imageRegistry: registry.skerry.test\nimage: line/timetable:2.4\n',
    `imageRegistry: registry.skerry.test\nimage: line/timetable@${digest} # 2.5.0\n`,
  ],
  ['a name and a digest', 'image: { name: <>, digest: "" }\n', `image: { name: <>, digest: "${digest}" }\n`],
  ['a tag by an alias', 'v: &v 2.4.0\na: { repository: <>, tag: *v }\n', 'left'],
  ['a tag in a block', 'repository: <>\ntag: |-\n  2.4.0\n', 'left'],
  ['a tag that is a map', 'repository: <>\ntag: { a: b }\n', 'left'],
  ['a repository by an alias', 'r: &r <>\na: { repository: *r, tag: 2.4.0 }\n', 'left'],
  ['a repository by a merge', 'b: &b { repository: <> }\na: { <<: *b, tag: 2.4.0 }\n', 'left'],
  ['a tag by a merge', 'b: &b { tag: 2.4.0 }\na: { <<: *b, repository: <> }\n', 'left'],
  ['merges in a list', 'b: &b { tag: 2.4.0 }\na: { <<: [*b], repository: <> }\n', 'left'],
  ['a slash that JSON escapes', '{"image":"registry.skerry.test\\/line\\/timetable:2.4.0"}', 'left', '.json'],
  ['a slash that YAML escapes', 'image: "registry.skerry.test\\u002fline/timetable:2.4.0"\n', 'left'],
  ['a text that is broken', 'image: "registry.skerry.test/line/time\\\n  table:2.4.0"\n', 'left'],
  ['a reference that is a key', '<>:2.4.0: x\n? <>:2.4.0\n: y\n', 'left'],
])('%s', (_, text, after, ...[extension]) => {
  const of = (each: string): string => each.replaceAll('<>', repository);
  const pointed = run(of(text), extension);
  if (after === 'left') {
    expect(pointed.left.length).toBeGreaterThan(0);
  } else {
    expect([pointed.text, pointed.left]).toEqual([of(after), []]);
    expect(readsTheSame(of(text), pointed.text, pointed.edits)).toBe(true);
  }
});

test('what moves to another registry is written in both of its values; its lines are those that change', () => {
  const moved = formatRepository(parseRepository('uat.skerry.test/line/timetable'));
  const serves = { repository, digest, name: '2.5.0' };
  const text = 'image:\n  registry: uat.skerry.test\n  pull: always\n  repository: line/timetable\n  tag: 2.4.0\n';
  const pointed = point(text, spotsIn(text, '.yaml'), [{ component: 'timetable', repository: moved, serves }]);
  expect(pointed.text).toBe(
    `image:\n  registry: registry.skerry.test\n  pull: always\n  repository: line/timetable\n  tag: 2.5.0@${digest}\n`,
  );
  expect(pointed.changes.map(({ lines }) => lines)).toEqual([[2, 5]]);
});

test.each<[text: string, unclear: string[], others: number]>([
  ['image: line/timetable:2.4.0\n', ['line/timetable:2.4.0'], 0],
  ['image: "{{ .Values.registry }}/line/timetable:2.4.0"\n', ['line/timetable:2.4.0'], 0],
  ['global: { registry: registry.skerry.test }\nrepository: line/timetable\ntag: 2.4\n', ['line/timetable'], 0],
  ['image: { name: line/timetable, digest: sha256:00 }\n', ['line/timetable'], 0],
  ['env: { name: NEXT, value: "line/timetable:2.4.0" }\n', ['line/timetable:2.4.0'], 0],
  ['image: <>:2.4.0\n', [], 0],
  ['image: other.test/line/timetable:2.4.0\n', [], 0],
  ['image: other.test/postgres:15\ninitImage: busybox\n', [], 2],
  ['name: timetable\ncommand: [ls, line/timetable]\npath: /line/timetables\n', [], 0],
])('what looks like an image of the product is told, and others are counted: %j', (text, unclear, others) => {
  const pointed = run(text.replaceAll('<>', repository));
  expect([pointed.unclear.map(({ object }) => object), pointed.others]).toEqual([unclear, others]);
});

/** Documents of the values that deployment files have, and of others. */
const scalar = fc.oneof(
  fc.constantFrom(
    `${repository}:2.4.0`,
    repository,
    `${repository}@${sha256('x')}`,
    'registry.skerry.test',
    'line/timetable',
    '',
    '~',
    '2.4',
    'true',
    '- a',
    'a: b',
    "it's",
  ),
  fc.string({ maxLength: 12 }),
);
const document: fc.Arbitrary<unknown> = fc.letrec((tie) => ({
  node: fc.oneof(
    { depthSize: 'small', withCrossShrink: true },
    scalar,
    fc.array(tie('node'), { maxLength: 3 }),
    fc.dictionary(
      fc.constantFrom('image', 'repository', 'registry', 'tag', 'digest', 'name', 'newName', 'x'),
      tie('node'),
      {
        maxKeys: 4,
      },
    ),
  ),
})).node;

test('whatever the document, what is written reads as before but for references, and is up to date then', () => {
  let changed = 0;
  fc.assert(
    fc.property(document, fc.constantFrom(0, 2, 4), (value, indent) => {
      const text = `${JSON.stringify(value, undefined, indent)}\n`;
      for (const extension of ['.json', '.yaml']) {
        const pointed = run(text, extension);
        expect(readsTheSame(text, pointed.text, pointed.edits)).toBe(true);
        expect(parseAllDocuments(pointed.text).every(({ errors }) => errors.length === 0)).toBe(true);
        expect(run(pointed.text, extension).changes).toEqual([]);
        changed += pointed.changes.length;
      }
    }),
    { numRuns: 1_000 },
  );
  expect(changed).toBeGreaterThan(100);
});

test('what would read otherwise elsewhere is seen', () => {
  expect(readsTheSame('a: x\nb: y\n', 'a: z\nb: y\n', [{ start: 3, end: 4 }])).toBe(true);
  expect(readsTheSame('a: x\nb: y\n', 'a: z\nb: q\n', [{ start: 3, end: 4 }])).toBe(false);
  expect(readsTheSame('a: x\nb: y\n', 'a: 1\nb: y\n', [{ start: 3, end: 4 }])).toBe(false);
  expect(readsTheSame('a: x\nb: y\n', 'a:x\nb: y\n', [{ start: 3, end: 4 }])).toBe(false);
});
