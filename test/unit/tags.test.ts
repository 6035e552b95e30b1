import fc from 'fast-check';
import { commitSchema } from '../../src/core/commit';
import { isTag } from '../../src/core/oci/tag';
import { expandTag, parseTemplate } from '../../src/core/tags/template';
import { parseVersion } from '../../src/core/tags/version';
import {
  highestVersionOf,
  nearVersionTags,
  parseVersionTags,
  usualVersionTags,
} from '../../src/core/tags/version-tags';

const facts = {
  product: 'skerry-line',
  commit: commitSchema.parse('c'.repeat(40)),
  version: parseVersion('2.4.0-rc.1+7'),
  date: '20260105',
};
const expand = (template: string, more: object = {}) =>
  expandTag(parseTemplate(template), { ...facts, ...more }, 'timetable');

test.each([
  ['c-{commit:12}', 'c-cccccccccccc'],
  ['{version}', '2.4.0-rc.1_7'],
  ['{major}.{minor}.{patch}', '2.4.0'],
  ['{product}-{image}-{date}', 'skerry-line-timetable-20260105'],
])('%s gives %s', (template, tag) => expect(expand(template)).toEqual({ tag }));

test('a rule that needs what is not known gives no tag, and unknown placeholders are refused', () => {
  expect(expand('{branch}-{version}')).toEqual({ missing: 'branch' });
  for (const wrong of ['{comit}', '{version:3}', '{commit:3}', '{}']) {
    expect(() => parseTemplate(wrong)).toThrow();
  }
});

test('every branch gives a tag, and no two branches share one', () => {
  const branch = fc.oneof(
    fc.string({ minLength: 1, maxLength: 200 }),
    fc.stringMatching(/^[a-z]{1,3}[/_.-][a-z]{1,3}$/),
  );
  fc.assert(
    fc.property(branch, branch, (a, b) => {
      const [first, second] = [a, b].map((each) => expand('{branch}', { branch: each }));
      for (const each of [first, second]) {
        expect(each && 'tag' in each && isTag(each.tag)).toBe(true);
      }
      expect(JSON.stringify(first) === JSON.stringify(second)).toBe(a === b);
    }),
    { numRuns: 500 },
  );
});

test('the version of a commit is the highest that its git tags name', () => {
  expect(highestVersionOf(usualVersionTags, ['v2.9.0', 'v2.10.0', 'nightly', '2.10.0-rc.1'])).toBe('2.10.0');
  expect(highestVersionOf(usualVersionTags, ['nightly', 'v2'])).toBeUndefined();
  expect(nearVersionTags(usualVersionTags, ['nightly', 'v5.0', '2024', 'v1.0.0', 'vole'])).toEqual(['v5.0', '2024']);
  // One repository, many products.
  const own = parseVersionTags('timetable/v{version}');
  expect(highestVersionOf(own, ['timetable/v1.2.0', 'tide-watch/v9.0.0', 'v3.0.0', 'timetable/vv4.0.0'])).toBe('1.2.0');
  expect(nearVersionTags(own, ['timetable/v5.0', 'timetable/vote', 'v5.0'])).toEqual(['timetable/v5.0']);
  expect(highestVersionOf(parseVersionTags('{version}-rel'), ['1.0.0-rel', '-rel', '2.0.0'])).toBe('1.0.0');
});
