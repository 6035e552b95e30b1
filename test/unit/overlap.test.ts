import fc from 'fast-check';
import { commonTag, literal, tagForm } from '../../src/core/tags/overlap';
import { expandTag, parseTemplate, type TagValues } from '../../src/core/tags/template';
import { commitSchema } from '../../src/core/commit';
import { sha256 } from '../../src/core/oci/digest';
import { versionNamed } from '../../src/core/tags/version';

const product = 'skerry-line';
const common = (one: string, a: string, other: string, b: string) =>
  commonTag(
    tagForm(parseTemplate(one), { component: a, product }),
    tagForm(parseTemplate(other), { component: b, product }),
  );

test('rules that can meet are told with a tag that both give, and others are not', () => {
  expect(common('{version}', 'en', '{version}', 'de')).toBe('0.0.0');
  expect(common('{image}-{version}', 'en', '{image}-{version}', 'de')).toBeUndefined();
  expect(common('{image}-{version}', 'en', '{image}-{version}', 'en-gb')).toBeUndefined();
  expect(common('{image}-{commit:12}', 'a', '{image}-{commit:12}', 'a-b')).toBeUndefined();
  // A branch can be called anything.
  expect(common('{image}-{branch}', 'en', '{image}-{version}', 'en-gb')).toBe('en-gb-0.0.0');
  expect(common('{branch}-{image}', 'en', '{branch}-{image}', 'en-gb')).toBeUndefined();
  expect(common('{major}.{minor}', 'en', '{version}', 'de')).toBeUndefined();
  expect(common('en', 'a', '{image}', 'en')).toBe('en');
});

test('whatever tag a rule gives is one that its form allows', () => {
  const parts = fc.constantFrom(
    ...['{image}', '{product}', '{commit}', '{commit:12}', '{digest:24}', '{version}', '{major}', '{minor}', '{patch}'],
    ...['{branch}', '{build}', '{date}', '{platform}', '-', 'x', 'v', '_', '+', '.'],
  );
  const values = fc.record({
    branch: fc.string({ unit: fc.constantFrom('a', 'Z', '/', '-', '9', 'é', ' '), minLength: 1, maxLength: 150 }),
    build: fc.constantFrom('7', '2026/7', 'x'),
    version: fc.constantFrom('2.4.0', '10.0.1-rc.1', '2.4.0-rc.1+build.5'),
    platform: fc.constantFrom('linux/amd64', 'linux/arm/v7'),
  });
  fc.assert(
    fc.property(fc.array(parts, { minLength: 1, maxLength: 5 }), values, (texts, { version, ...more }) => {
      const template = parseTemplate(`t${texts.join('')}`);
      const build: TagValues = {
        ...{ product, date: '20261201', commit: commitSchema.parse('a1'.repeat(20)), digest: sha256('x') },
        ...{ version: versionNamed(version), ...more },
      };
      const expansion = expandTag(template, build, 'timetable');
      fc.pre('tag' in expansion && expansion.tag.length < 100);
      const tag = 'tag' in expansion ? expansion.tag : '';
      expect(commonTag(tagForm(template, { component: 'timetable', product }), literal(tag))).toBe(tag);
    }),
  );
});
