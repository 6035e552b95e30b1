import fc from 'fast-check';
import { sha256, type Digest } from '../../src/core/oci/digest';
import { sealEntry, type Entry, type Head, emptyHead } from '../../src/core/release/entry';
import { factsReadBy, Facts, foldEntry, tagKey } from '../../src/core/release/facts';
import { becomesCurrent, decideTags, tagsToSet } from '../../src/core/release/plan';
import type { Ancestry } from '../../src/core/tags/ordering';
import { followedBy, wantedTags, type TagRule } from '../../src/core/tags/rules';
import { isTag } from '../../src/core/tags/tag';
import { expandTag, parseTemplate } from '../../src/core/tags/template';
import { compareVersions, isPrerelease, parseVersion, versionAmong, type Version } from '../../src/core/tags/version';

const facts = {
  product: 'skerry-line',
  commit: 'c'.repeat(40),
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
  expect(expand('{branch}-{version}')).toEqual({ lacks: 'branch' });
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
  expect(versionAmong(['v2.9.0', 'v2.10.0', 'nightly', '2.10.0-rc.1'])).toBe('2.10.0');
  expect(versionAmong(['nightly', 'v2'])).toBeUndefined();
});

describe('whatever order builds are published in', () => {
  const environment = 'prod';
  const repository = 'registry.test/skerry/timetable';
  const rule = (text: string, kind: 'fixed' | 'moving'): TagRule => {
    const template = parseTemplate(text);
    return kind === 'fixed' ? { kind, template } : { kind, template, follows: followedBy(template, environment) };
  };
  const rules = [
    rule('{version}', 'fixed'),
    ...['{major}.{minor}', '{major}', 'latest', 'prod', '{branch}'].map((text) => rule(text, 'moving')),
  ];
  /** A straight history: commit n comes after commit n - 1. */
  const commitOf = (at: number) => at.toString(16).padStart(40, '0');
  const ancestry: Ancestry = (older, newer) => parseInt(older, 16) <= parseInt(newer, 16);
  interface Build {
    commit: string;
    version: Version;
    digest: Digest;
  }

  /** Publishes one build as the program does, into facts and a pretended registry. */
  function publishInto(state: Facts, served: Map<string, Digest>, build: Build, head: Head): Head {
    const { wanted } = wantedTags(rules, { product: 'skerry-line', branch: 'main', ...build }, 'timetable');
    const requests = wanted.map((each) => {
      const found = served.get(tagKey(repository, each.tag));
      return { image: 'timetable', repository, digest: build.digest, wanted: each, found };
    });
    const decisions = decideTags(requests, build, state, ancestry);
    expect(decisions.filter(({ outcome }) => outcome === 'refused')).toEqual([]);
    const tags = tagsToSet(decisions);
    const images = [{ image: 'timetable', repository, digest: build.digest, mediaType: 'm', size: 1, platforms: [] }];
    const { commit, version } = build;
    const current = becomesCurrent(environment, ['timetable'], build, state, ancestry);
    const release = sha256(commit);
    const entry: Entry = {
      product: 'skerry-line',
      seq: head.seq + 1,
      previous: head.hash,
      at: '2026-01-05T00:00:00Z',
      actor: 'una',
      action: { kind: 'published', release, commit, version, branch: 'main', environment, images, tags, current },
    };
    expect(factsReadBy(entry)).toContainEqual({ kind: 'environment', key: environment });
    foldEntry(entry, state)
      .all()
      .forEach(({ key, text }) => state.load(key, text));
    tags.forEach(({ tag, digest }) => served.set(tagKey(repository, tag), digest));
    return { seq: entry.seq, hash: sealEntry(entry).hash };
  }

  test('moving tags end where the right order leaves them, and fixed tags never change', () => {
    const versions = fc.uniqueArray(
      fc
        .tuple(fc.nat(2), fc.nat(2), fc.nat(2), fc.constantFrom('', '', '-rc.1', '-rc.2'))
        .map(([major, minor, patch, pre]) => parseVersion(`${major}.${minor}.${patch}${pre}`)),
      { minLength: 1, maxLength: 10 },
    );
    fc.assert(
      fc.property(versions, fc.infiniteStream(fc.nat()), fc.boolean(), (all, random, again) => {
        const builds = all.map((version, at): Build => ({ version, commit: commitOf(at), digest: sha256(version) }));
        const order = builds.map((build) => ({ build, key: random.next().value ?? 0 })).sort((a, b) => a.key - b.key);
        const sequence = order.map(({ build }) => build);
        const state = new Facts();
        const served = new Map<string, Digest>();
        let head = emptyHead;
        for (const build of again ? [...sequence, ...sequence] : sequence) {
          const before = new Map(served);
          head = publishInto(state, served, build, head);
          for (const { version, digest } of builds) {
            const fixed = before.get(tagKey(repository, version));
            expect(
              fixed === undefined || (fixed === digest && served.get(tagKey(repository, version)) === digest),
            ).toBe(true);
          }
        }
        const highest = (of: Version[]) => [...of].sort(compareVersions).at(-1);
        const releases = all.filter((version) => !isPrerelease(version));
        const at = (tag: string) => served.get(tagKey(repository, tag));
        const expectAt = (tag: string, version: Version | undefined) =>
          expect(at(tag)).toBe(version === undefined ? undefined : sha256(version));
        expectAt('latest', highest(releases));
        expectAt('prod', highest(all));
        for (const version of all) {
          const [major, minor] = version.split('.');
          expectAt(major ?? '', highest(releases.filter((each) => each.startsWith(`${major ?? ''}.`))));
          const line = `${major ?? ''}.${minor ?? ''}`;
          expectAt(line, highest(releases.filter((each) => each.startsWith(`${line}.`))));
        }
        // The branch tag follows commits, whatever their versions.
        expect(at('main')).toBe(builds.at(-1)?.digest);
        expect(state.get('environment', environment)?.['timetable']?.digest).toBe(at('prod'));
      }),
      { numRuns: 300 },
    );
  });
});
