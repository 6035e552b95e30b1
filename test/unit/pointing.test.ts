import fc from 'fast-check';
import { parseAllDocuments } from 'yaml';
import { point, type Target } from '../../src/core/deployment/pointing';
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

/** Documents of the values that deployment files have, and of others. */
const scalar = fc.oneof(
  fc.constantFrom(
    `${repository}:2.4.0`,
    repository,
    `${repository}@${sha256('x')}`,
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
    fc.dictionary(fc.constantFrom('image', 'repository', 'tag', 'digest', 'name', 'newName', 'x'), tie('node'), {
      maxKeys: 4,
    }),
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
