import { commitSchema, type CommitId } from '../../src/core/commit';
import { sha256 } from '../../src/core/oci/digest';
import { formatRepository, parseRepository } from '../../src/core/oci/reference';
import { usualVersionTags } from '../../src/core/tags/version-tags';
import { decideBuild, type BuildOptions, type BuildSources } from '../../src/core/build/build';
import { noAdmissionRules, rulesDigest, type ProductRules } from '../../src/core/ledger/rules';
import { judgedByNewest, type CheckoutRules } from '../../src/core/release/gates/rules-in-force';
import { inSpiteOfNothing } from '../../src/core/release/despite';
import { Facts, tagKey } from '../../src/core/ledger/facts';
import { Knowledge, type Need } from '../../src/core/release/knowledge';
import { decidePublication, type Publication } from '../../src/core/release/publication';
import { contentId, releaseId } from '../../src/core/ledger/release';
import { decideVersion } from '../../src/core/release/versions';
import type { VersionRequest } from '../../src/core/build/version-request';
import { decideMoving, type Position } from '../../src/core/tags/ordering';
import { followedBy, type Follows } from '../../src/core/tags/rules';
import { tagSchema } from '../../src/core/oci/tag';
import { parseTemplate } from '../../src/core/tags/template';
import { everyVersion, parseLine, parseVersion } from '../../src/core/tags/version';
import { timestampOf } from '../../src/core/time';
import { failing } from '../support/seen-errors';

/** Decisions as tables: what is known on the left, what is decided on the right. */

const commit = (digit: string) => commitSchema.parse(digit.repeat(40));
const [a, b, c] = [commit('a'), commit('b'), commit('c')] as const;
const time = timestampOf(new Date(Date.UTC(2026, 0, 5, 12)));

describe('which rules count', () => {
  const rules = (soak: number, way: readonly string[] = ['dev', 'prod']) => ({
    environments: way.map((name, at) => ({
      name,
      after: way[at - 1] ?? null,
      gates: { ...noAdmissionRules, soak: name === 'prod' ? soak : 0 },
    })),
  });
  const [asked, none, longer] = [rules(3_600_000), rules(0), rules(3_600_000, ['dev', 'uat', 'prod'])] as const;
  const elsewhere = {
    ...asked,
    environments: [...asked.environments, { name: 'lab', after: null, gates: noAdmissionRules }],
  };
  // `a` is contained in `b`; `c` is on a branch of its own; nothing is known of others.
  const known = new Map([
    [`${a} ${b}`, true],
    [`${b} ${a}`, false],
    [`${a} ${c}`, false],
    [`${c} ${a}`, false],
  ]);
  const ancestry = {
    contains: (older: string, newer: string) => older === newer || known.get(`${older} ${newer}`),
    gap: 'nobody fetched it',
  };
  const named = (of: ProductRules, commit?: CommitId) => ({ rules: of, digest: rulesDigest(of), commit });

  test.each<[string, CheckoutRules, CheckoutRules | undefined, RegExp | 'met' | undefined]>([
    ['the first rules', named(none, a), undefined, undefined],
    ['the same in an older checkout', named(asked, a), named(asked, b), undefined],
    ['others of another environment', named(elsewhere, a), named(asked, b), undefined],
    ['newer', named(none, b), named(asked, a), 'met'],
    ['none in git, ever', named(none), named(asked), 'met'],
    [
      'older, without the gate',
      named(none, a),
      named(asked, b),
      /older than commit b+, .* soak: 1 h in force, none here/,
    ],
    [
      'older, without the environment',
      named(asked, a),
      named(longer, b),
      /way: dev → uat → prod in force, dev → prod here/,
    ],
    ['on a branch', named(none, c), named(asked, a), /does not contain commit a+/],
    ['not fetched', named(none, b), named(asked, c), /cannot tell .* nobody fetched it/],
    ['without a clone', named(none), named(asked, a), /in no git clone/],
  ])('%s', (_, here, inForce, expected) => {
    const facts = new Facts();
    if (inForce !== undefined) {
      facts.set('rules-in-force', '', { ...inForce, seq: 1 });
    }
    const judged = (newWayIn: boolean) =>
      judgedByNewest('prod', here, {
        facts,
        ancestry,
        despite: { ...inSpiteOfNothing, newWayIn },
        standing: undefined,
      });
    const gate = judged(false);
    expect(gate?.outcome).toBe(expected instanceof RegExp ? 'unmet' : expected);
    expect([gate?.detail ?? ''].flat().join(' ')).toMatch(expected instanceof RegExp ? expected : /^/);
    expect(judged(true)?.outcome ?? 'met').toBe('met');
  });
});

describe('what a build is', () => {
  const git = { id: a, branch: 'main', tags: ['v2.4.0', 'nightly'], time, dirty: false, shallow: false };
  const ci = { commit: a, branch: 'winter', tag: undefined, build: '7', run: 'https://ci.test/7', pullRequest: false };
  const none = {
    commit: undefined,
    branch: undefined,
    tag: undefined,
    build: undefined,
    run: undefined,
    pullRequest: false,
  };
  const gap = { gap: 'this is not a git working copy' };
  const build = (git: BuildSources['git'], ci: BuildSources['ci'], options: BuildOptions = {}) => {
    const { commit, branch, number, date, dirty, version } = decideBuild({
      options,
      versionTags: usualVersionTags,
      ci,
      git,
    }).build;
    const named = version.kind === 'given' ? version.version : version.kind === 'next' ? `next ${version.part}` : '-';
    return [commit.slice(0, 1), branch ?? '-', number ?? '-', date ?? '-', dirty, named].join(' ');
  };

  test.each<[string, BuildSources['git'], BuildSources['ci'], BuildOptions, string]>([
    ['git alone', { commit: git }, undefined, {}, 'a main - 20260105 false 2.4.0'],
    [
      'the CI names the branch of a detached head',
      { commit: { ...git, branch: undefined } },
      ci,
      {},
      'a winter 7 20260105 false 2.4.0',
    ],
    ['the CI goes before git for a branch', { commit: git }, ci, {}, 'a winter 7 20260105 false 2.4.0'],
    [
      'options go before both',
      { commit: git },
      ci,
      { branch: 'x', build: '8', version: 'v3.0.0' },
      'a x 8 20260105 false 3.0.0',
    ],
    [
      'what the CI says is not about another commit',
      { commit: { ...git, id: b, tags: [] } },
      ci,
      { commit: b },
      'b main 7 20260105 false -',
    ],
    ['no git, a CI', gap, ci, {}, 'a winter 7 - false -'],
    ['no git, a CI that built a tag', gap, { ...ci, tag: 'v2.5.0' }, {}, 'a winter 7 - false 2.5.0'],
    ['no git, a commit by hand', gap, none, { commit: c, next: 'minor' }, 'c - - - false next minor'],
    ['a dirty working copy', { commit: { ...git, dirty: true } }, undefined, {}, 'a main - 20260105 true 2.4.0'],
  ])('%s', (_, from, said, options, expected) => expect(build(from, said, options)).toBe(expected));

  test('what cannot be is refused', async () => {
    await failing('commit-unknown', () => build(gap, none));
    await failing('not-a-commit', () => build(gap, none, { commit: 'HEAD' }));
    await failing('options-conflict', () => build({ commit: git }, undefined, { version: '1.0.0', next: 'patch' }));
    await failing('options-conflict', () => build({ commit: git }, undefined, { line: '2' }));
    await failing('not-a-line', () => build({ commit: git }, undefined, { next: 'patch', line: 'two' }));
  });
});

const components = (content: string) => [{ component: 'timetable', digest: sha256(content) }];
/** Known: facts of a ledger, and that a comes before b; c is on a branch of its own from a. */
function knowing(facts: Facts, unknown = false): Knowledge {
  const known = new Knowledge();
  known.facts = facts;
  const ancestry = {
    contains: (older: string, newer: string) => (unknown ? undefined : older === newer || (older === a && newer !== a)),
    gap: unknown ? 'this is a shallow clone' : '',
  };
  known.tellOrder(a, b, ancestry);
  known.tellOrder(a, c, ancestry);
  known.tellOrder(b, c, ancestry);
  return known;
}

describe('which version a build gets', () => {
  const version = parseVersion('2.4.0');
  const line24 = parseLine('2.4');
  const facts = new Facts();
  const content = contentId(components('old'));
  const release = releaseId({ product: 'skerry-line', commit: b, version, components: components('old') });
  facts.set('line', everyVersion, { version, commit: b, content });
  facts.set('line', line24, { version, commit: a, content });
  facts.set('commit', b, { release, version, content });
  const next = (part: 'major' | 'minor' | 'patch', line = everyVersion): VersionRequest => ({
    kind: 'next',
    part,
    line,
  });

  test.each<[string, VersionRequest, typeof a, string, string]>([
    ['none is asked for', { kind: 'none', near: [] }, a, 'new', 'none -'],
    ['one is named', { kind: 'given', version: parseVersion('9.9.9'), source: '--version' }, a, 'new', 'given 9.9.9'],
    ['a run again', next('patch'), b, 'old', 'kept 2.4.0'],
    ['the same content, from another commit', next('patch'), c, 'old', 'kept 2.4.0'],
    ['the same commit, other content', next('minor'), b, 'new', 'next 2.5.0'],
    ['an older commit comes late', next('patch'), a, 'new', 'held -'],
    ['another branch', next('patch'), c, 'new', 'refused not-after-last-version'],
    ['a maintenance line', next('patch', line24), c, 'new', 'next 2.4.1'],
    ['a line without a release', next('patch', parseLine('7')), b, 'new', 'needs highest'],
  ])('%s', (_, request, commit, held, expected) => {
    const decision = decideVersion(request, { commit, content: contentId(components(held)) }, knowing(facts));
    expect(describeDecision(decision)).toBe(expected);
  });

  test('a ledger that knows none asks what is known elsewhere, and goes on from there', () => {
    const known = knowing(new Facts());
    const ask = (line = everyVersion) =>
      describeDecision(decideVersion(next('patch', line), { commit: a, content: contentId(components('new')) }, known));
    expect(ask()).toBe('needs highest');
    known.tellHighest(everyVersion, undefined);
    expect(ask()).toBe('next 0.0.1');
    known.tellHighest(everyVersion, parseVersion('2.4.9'));
    expect(ask()).toBe('next 2.4.10');
    known.tellHighest(line24, undefined);
    expect(ask(line24)).toBe('refused line-empty');
  });

  test('where git cannot tell, nothing is guessed', () => {
    const candidate = { commit: c, content: contentId(components('new')) };
    expect(describeDecision(decideVersion(next('patch'), candidate, knowing(facts, true)))).toBe(
      'refused order-unknown',
    );
  });
});

function describeDecision(decision: ReturnType<typeof decideVersion>): string {
  switch (decision.kind) {
    case 'decided':
      return `${decision.value.outcome} ${decision.value.version ?? '-'}`;
    case 'refused':
      return `refused ${decision.gates.map((gate) => (gate.outcome === 'unmet' ? gate.code : '')).join()}`;
    case 'needs':
      return `needs ${decision.needs.map(({ kind }) => kind).join()}`;
  }
}

describe('where a moving tag goes', () => {
  const at = (version: string | undefined, commit?: typeof a): Position => {
    return { version: version === undefined ? undefined : parseVersion(version), commit };
  };
  test.each<[Follows, Position, Position | 'nothing' | 'unknown', string]>([
    ['branch', at(undefined, b), 'nothing', 'created'],
    ['branch', at(undefined, b), at(undefined, a), 'moved'],
    ['branch', at(undefined, a), at(undefined, b), 'held order'],
    ['branch', at(undefined, b), at(undefined, c), 'held order'],
    ['branch', at('1.0.0', b), at('2.0.0', a), 'moved'],
    ['branch', at(undefined, b), 'unknown', 'held order'],
    ['release', at(undefined, b), at('2.0.0', a), 'held kind'],
    ['release', at('2.1.0-rc.1', b), at('2.0.0', a), 'held kind'],
    ['release', at('2.1.0', a), at('2.0.0', b), 'moved'],
    ['release', at('2.0.0', b), at('2.1.0', a), 'held order'],
    ['environment', at('2.1.0-rc.1', b), at('2.0.0', a), 'moved'],
    ['environment', at(undefined, b), at(undefined, a), 'moved'],
    ['environment', at(undefined, a), at('2.0.0', a), 'held order'],
    ['environment', at('2.0.0', a), at(undefined, a), 'moved'],
  ])('%s: %j over %j', (follows, candidate, current, expected) => {
    const target =
      current === 'nothing'
        ? undefined
        : { digest: sha256('there'), position: current === 'unknown' ? undefined : current };
    const decision = decideMoving(
      follows,
      { ...candidate, digest: sha256('here') },
      target,
      knowing(new Facts()).ancestry,
    );
    expect([decision.outcome, ...('by' in decision ? [decision.by] : [])].join(' ')).toBe(expected);
  });
});

test('a publication asks for what it needs, in as few rounds as there can be, and for nothing twice', () => {
  const repository = formatRepository(parseRepository('dev.test/skerry/timetable'));
  const rule = parseTemplate('{branch}');
  const publication: Publication = {
    product: 'skerry-line',
    environment: 'dev',
    from: null,
    rulesOf: () => [{ kind: 'moving', template: rule, follows: followedBy(rule, 'dev') }],
    following: { branches: ['main'], usual: true, branch: 'main', pullRequest: false, containing: [] },
    lists: ['timetable'],
    build: {
      commit: b,
      branch: 'main',
      pullRequest: false,
      number: undefined,
      run: undefined,
      date: undefined,
      dirty: false,
      shallow: false,
      version: { kind: 'next', part: 'patch', line: everyVersion },
    },
    components: [{ component: 'timetable', digest: sha256('new'), repository, images: [] }],
    claims: [],
    strictOrder: false,
    despite: inSpiteOfNothing,
    checkout: undefined,
    reception: undefined,
  };
  const known = new Knowledge();
  const asked: string[][] = [];
  const name = (need: Need) => (need.kind === 'fact' ? need.fact.kind : need.kind);
  const keys: Extract<Need, { kind: 'fact' }>['fact'][] = [];
  const found = sha256('somebody else pushed this');
  for (;;) {
    const decision = decidePublication(publication, known);
    if (decision.kind !== 'needs') {
      expect(decision).toMatchObject({
        kind: 'decided',
        value: {
          arrivals: [{ component: 'timetable', way: 'takes-over' }],
          decisions: [{ tag: 'main', outcome: 'moved' }],
          plan: { versioning: { version: '0.0.1' } },
        },
      });
      break;
    }
    asked.push([...new Set(decision.needs.map(name))].sort());
    for (const need of decision.needs) {
      switch (need.kind) {
        case 'fact':
          keys.push(need.fact);
          break;
        case 'served':
          known.tellServed(need.repository, need.tag, found);
          break;
        case 'provenance':
          known.tellProvenance(need, { commit: a });
          break;
        case 'order':
          known.tellOrder(need.commit, need.other, { contains: (older) => older === a, gap: '' });
          break;
        case 'highest':
          known.tellHighest(need.line, undefined);
      }
    }
    known.facts = new Facts(keys);
  }
  expect(asked).toEqual([
    ['commit', 'line'],
    ['highest'],
    ['version'],
    ['environment', 'lane', 'release', 'served', 'tag', 'withdrawn'],
    ['provenance'],
    ['order'],
  ]);
  expect(known.facts.get('tag', tagKey(repository, tagSchema.parse('main')))).toBeUndefined();
  // A fact that nobody asked for is not taken for one that is not set.
  expect(() => known.facts.get('tag', 'dev.test/skerry/timetable:latest')).toThrow('was not asked for');
});
