import { commitSchema } from '../../src/core/commit';
import { sha256 } from '../../src/core/oci/digest';
import { formatRepository, parseRepository } from '../../src/core/oci/reference';
import { noAdmissionRules, type AdmissionRules, type FreezeWindow } from '../../src/core/ledger/rules';
import { Facts, type Fact } from '../../src/core/ledger/facts';
import { frozenUntil } from '../../src/core/release/gates/freeze';
import { isTimeZone, isWindow, parseClockTime } from '../../src/core/release/gates/freeze-window';
import { admissionGates, noRuling } from '../../src/core/release/gates/admission';
import { unmetAmong } from '../../src/core/release/gates/gate';
import { refuseUnmet } from '../../src/core/release/refusal';
import { contentId, releaseId } from '../../src/core/ledger/release';
import { parseVersion } from '../../src/core/tags/version';
import { failing } from '../support/seen-errors';
import { trustsNobody } from '../../src/core/trust/trust-rules';
import type { CommitSigner } from '../../src/core/release/gates/signed-commit';
import { millisecondsOf } from '../../src/core/amounts';
import { timestampOf, type Timestamp } from '../../src/core/time';

/** Every gate: met, and missed by the least amount there is. */

const bill = 'application/vnd.skerry.bill.v1+json';
const at = (text: string): Timestamp => timestampOf(new Date(text));
const window = (from: string, to: string, zone = 'Europe/Dublin'): FreezeWindow => {
  const [begin, end] = [parseClockTime(from), parseClockTime(to)];
  if (begin === undefined || end === undefined || !isTimeZone(zone) || !isWindow(begin, end)) {
    throw new Error(`${from} to ${to} is no window`);
  }
  return { from: begin, to: end, zone };
};

describe('when an environment is frozen', () => {
  const weekend = window('fri 16:00', 'mon 08:00');
  // In 2026 the clocks of Dublin go forward on 29 March at 01:00 UTC, and back on 25 October at 01:00 UTC.
  test.each<[string, FreezeWindow, string, string | undefined]>([
    ['a second before the weekend', weekend, '2026-11-27T15:59:59Z', undefined],
    ['its first second', weekend, '2026-11-27T16:00:00Z', '2026-11-30T08:00:00.000Z'],
    ['its last second', weekend, '2026-11-30T07:59:59Z', '2026-11-30T08:00:00.000Z'],
    ['when it ends', weekend, '2026-11-30T08:00:00Z', undefined],
    ['in summer it begins an hour earlier', weekend, '2026-07-03T15:00:00Z', '2026-07-06T07:00:00.000Z'],
    ['it begins in winter and ends in summer', weekend, '2026-03-27T16:00:00Z', '2026-03-30T07:00:00.000Z'],
    ['it begins in summer and ends in winter', weekend, '2026-10-26T07:59:59Z', '2026-10-26T08:00:00.000Z'],
    ['and is over then', weekend, '2026-10-26T08:00:00Z', undefined],
    ['within one day', window('tue 09:00', 'tue 10:00'), '2026-11-24T09:59:59Z', '2026-11-24T10:00:00.000Z'],
    ['within one day, over', window('tue 09:00', 'tue 10:00'), '2026-11-24T10:00:00Z', undefined],
    ['the whole week', window('tue 09:00', 'tue 09:00'), '2026-11-24T08:59:59Z', '2026-11-24T09:00:00.000Z'],
    [
      'a time that comes twice ends a freeze the second time',
      window('sat 12:00', 'sun 01:30'),
      '2026-10-25T01:29:59Z',
      '2026-10-25T01:30:00.000Z',
    ],
    ['and not later', window('sat 12:00', 'sun 01:30'), '2026-10-25T01:30:00Z', undefined],
    [
      'a time that comes twice begins a freeze the first time',
      window('sun 01:30', 'sun 12:00'),
      '2026-10-25T00:30:00Z',
      '2026-10-25T12:00:00.000Z',
    ],
    ['and not earlier', window('sun 01:30', 'sun 12:00'), '2026-10-25T00:29:59Z', undefined],
    [
      'a time that the clock jumps over begins it with the jump',
      window('sun 01:30', 'sun 12:00'),
      '2026-03-29T01:00:00Z',
      '2026-03-29T11:00:00.000Z',
    ],
    ['and not earlier', window('sun 01:30', 'sun 12:00'), '2026-03-29T00:59:59Z', undefined],
    [
      'a time that the clock jumps over ends it with the jump',
      window('sat 12:00', 'sun 01:30'),
      '2026-03-29T01:00:00Z',
      undefined,
    ],
    ['dates', window('2026-12-18 16:00', '2027-01-04 08:00'), '2026-12-18T16:00:00Z', '2027-01-04T08:00:00.000Z'],
    ['dates, over', window('2026-12-18 16:00', '2027-01-04 08:00'), '2027-01-04T08:00:00Z', undefined],
    [
      'ahead of UTC by hours and a half',
      window('mon 00:00', 'mon 01:00', 'Asia/Kolkata'),
      '2026-11-22T18:30:00Z',
      '2026-11-22T19:30:00.000Z',
    ],
    [
      'on the other side of the date line',
      window('mon 00:00', 'mon 01:00', 'Pacific/Auckland'),
      '2026-11-22T10:59:59Z',
      undefined,
    ],
    [
      'and begun there',
      window('mon 00:00', 'mon 01:00', 'Pacific/Auckland'),
      '2026-11-22T11:00:00Z',
      '2026-11-22T12:00:00.000Z',
    ],
  ])('%s', (_, frozen, now, until) => expect(frozenUntil(frozen, at(now))).toBe(until));

  test('what is no window is told apart', () => {
    for (const text of [
      'fri',
      'fri 24:00',
      'fri 16:60',
      'fry 16:00',
      '2026-02-29 00:00',
      '2026-13-01 00:00',
      '16:00',
    ]) {
      expect([text, parseClockTime(text)]).toEqual([text, undefined]);
    }
    expect(isTimeZone('Europe/Gull_Rock')).toBe(false);
    const [friday, christmas, april] = ['fri 16:00', '2026-12-24 00:00', '2026-04-01 00:00'].map(parseClockTime);
    if (friday === undefined || christmas === undefined || april === undefined) {
      throw new Error('these are times');
    }
    expect([isWindow(friday, christmas), isWindow(christmas, april), isWindow(april, christmas)]).toEqual([
      false,
      false,
      true,
    ]);
  });
});

describe('what lets a release in', () => {
  const commit = commitSchema.parse('a'.repeat(40));
  const version = parseVersion('2.4.0');
  const repository = formatRepository(parseRepository('uat.test/skerry/timetable'));
  const digest = sha256('timetable');
  const placed = { component: 'timetable', repository, digest, mediaType: 'm', size: 1, platforms: ['linux/amd64'] };
  const release = releaseId({ product: 'skerry-line', commit, version, components: [placed] });
  const since = at('2026-11-25T12:00:00Z');
  const known: Fact<'release'> = {
    release,
    commit,
    version,
    at: since,
    components: [placed],
    branches: ['main'],
    by: 'una',
    arrived: [],
  };
  const served = (more: Partial<Fact<'environment'>['components'][number]>): Facts => {
    const facts = new Facts();
    const component = { ...placed, version, commit, release, since, step: 1, by: 'una', tags: [], ...more };
    facts.set('environment', 'uat', { steps: 1, components: [component], lanes: [], gone: [], once: [] });
    return facts;
  };
  const passed = { name: 'smoke', environment: 'uat', passed: true, at: since, by: 'ci' };
  const signed = (by: string, environment = 'prod') => ({ environment, at: since, by });

  interface Case {
    rules: Partial<AdmissionRules>;
    now?: string;
    results?: Fact<'evidence'>['results'];
    signOffs?: Fact<'evidence'>['signOffs'];
    facts?: Facts;
    platforms?: string[];
    annotations?: string[];
    referrers?: string[];
    despiteFreeze?: boolean;
    commitSigner?: CommitSigner;
  }
  const ask = ({
    rules,
    now = '2026-11-26T12:00:00Z',
    results = [],
    signOffs = [],
    facts = served({}),
    ...more
  }: Case) => {
    const { platforms = ['linux/amd64'], annotations = [], referrers = [], despiteFreeze = false, commitSigner } = more;
    const content = { platforms, annotations, referrers, images: [], documents: [] };
    const component = { component: 'timetable', digest, kind: 'image' as const, ...content };
    const passage = { release: known, components: [component], from: 'uat', to: 'prod' };
    const trusting = { trust: trustsNobody, knownSince: () => undefined, commitSigner };
    const candidate = { ...passage, now: at(now), despiteFreeze, ruling: noRuling, ...trusting };
    return admissionGates({ ...noAdmissionRules, ...rules }, candidate, facts, { results, signOffs, publishers: [] });
  };
  const day = { soak: millisecondsOf('24h') };
  const smoke = { results: ['smoke'] };
  const dayOld = { ...smoke, resultRules: [{ name: 'smoke', noOlderThan: day.soak }] };
  const frozen = { freeze: [window('thu 12:00', 'thu 13:00', 'UTC')] };

  test.each<[string, Case, string[]]>([
    ['no rule', { rules: {} }, []],
    ['a result', { rules: smoke, results: [passed] }, ['met']],
    ['no result', { rules: smoke }, ['result-missing']],
    ['a newer failure', { rules: smoke, results: [{ ...passed, passed: false }] }, ['result-missing']],
    ['of another environment', { rules: smoke, results: [{ ...passed, environment: 'dev' }] }, ['result-missing']],
    ['of another name', { rules: smoke, results: [{ ...passed, name: 'smoke-2' }] }, ['result-missing']],
    ['one of two', { rules: { results: ['smoke', 'load'] }, results: [passed] }, ['met', 'result-missing']],
    ['a result of a day, where it may be a day old', { rules: dayOld, results: [passed] }, ['met']],
    ['a second older', { rules: dayOld, now: '2026-11-26T12:00:01Z', results: [passed] }, ['result-missing']],
    ['two sign-offs', { rules: { signOffs: 2 }, signOffs: [signed('ole'), signed('siv')] }, ['met']],
    ['one sign-off too few', { rules: { signOffs: 2 }, signOffs: [signed('ole')] }, ['sign-off-missing']],
    ["the publisher's own", { rules: { signOffs: 2 }, signOffs: [signed('ole'), signed('una')] }, ['sign-off-missing']],
    ['for another environment', { rules: { signOffs: 1 }, signOffs: [signed('ole', 'uat')] }, ['sign-off-missing']],
    ['soaked to the second', { rules: day, now: '2026-11-26T12:00:00Z' }, ['met']],
    ['a second too early', { rules: day, now: '2026-11-26T11:59:59Z' }, ['not-soaked']],
    ['another digest is served', { rules: day, facts: served({ digest: sha256('other') }) }, ['not-soaked']],
    ['nothing is served', { rules: day, facts: new Facts() }, ['not-soaked']],
    ['a second before the freeze', { rules: frozen, now: '2026-11-26T11:59:59Z' }, ['met']],
    ['in the freeze', { rules: frozen }, ['frozen']],
    ['in the freeze, on purpose', { rules: frozen, despiteFreeze: true }, ['met']],
    ['a platform', { rules: { platforms: ['linux/amd64'] } }, ['met']],
    ['a platform too few', { rules: { platforms: ['linux/amd64', 'linux/arm64'] } }, ['platform-lacking']],
    ['an annotation', { rules: { annotations: ['org.skerry.checked'] }, annotations: ['org.skerry.checked'] }, ['met']],
    ['an annotation too few', { rules: { annotations: ['org.skerry.checked'] } }, ['annotation-lacking']],
    ['a bill of materials', { rules: { referrers: [bill] }, referrers: [bill] }, ['met']],
    ['no bill of materials', { rules: { referrers: [bill] } }, ['referrers-missing']],
    ['a signed commit', { rules: { signedCommit: true }, commitSigner: { by: 'una@skerry.test' } }, ['met']],
    ['one that is not', { rules: { signedCommit: true }, commitSigner: { problem: 'x' } }, ['commit-unsigned']],
    ['all at once', { rules: { ...smoke, signOffs: 1, ...frozen } }, ['result-missing', 'sign-off-missing', 'frozen']],
  ])('%s', async (_, given, outcomes) => {
    const gates = ask(given);
    expect(gates.map((gate) => (gate.outcome === 'met' ? 'met' : gate.code))).toEqual(outcomes);
    for (const gate of unmetAmong(gates)) {
      const refusal = await failing(gate.code, () => refuseUnmet([gate]));
      expect(refusal.problem).toMatchObject({ object: ['2.4.0 to prod'], next: [gate.remedy] });
    }
  });

  test('evidence is bound to what the release holds, whatever it is called', () => {
    expect(contentId([placed])).toBe(contentId([{ component: 'timetable', digest }]));
    expect(contentId([placed])).not.toBe(contentId([{ component: 'timetable', digest: sha256('other') }]));
  });
});
