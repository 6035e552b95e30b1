import { noAdmissionRules, rulesDigest, type AdmissionRules, type JudgedBy } from '../../src/core/ledger/rules';
import { compactedEntries, wholeEntries, writeMovedTexts } from '../../src/ledger/compacted';
import { MemoryLedger } from '../../src/ledger/memory';
import { verifyContent } from '../../src/ledger/verify';
import { mkdtempSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import fc from 'fast-check';
import { commitSchema } from '../../src/core/commit';
import { sha256, type Digest } from '../../src/core/oci/digest';
import { formatRepository } from '../../src/core/oci/reference';
import type { Action } from '../../src/core/ledger/entries';
import { emptyHead, entryAfter, headAfter, type Head, type SealedEntry } from '../../src/core/ledger/entry';
import type { Facts } from '../../src/core/ledger/facts';
import { compactedKey, factKinds, factName, stateKey, type StoredFact } from '../../src/core/ledger/facts';
import { compactedAction, hashesDigest } from '../../src/core/ledger/compaction';
import { contentId, releaseId } from '../../src/core/ledger/release';
import { recordType } from '../../src/core/ledger/release-record';
import { ways } from '../../src/core/ledger/way';
import { tagSchema } from '../../src/core/oci/tag';
import { parseVersion } from '../../src/core/tags/version';
import { timestampOf } from '../../src/core/time';
import type { Ledger } from '../../src/ledger/ledger';
import { checkSignedHead, readSignatures } from '../../src/ledger/signed-head';
import { signedEntryAfter } from '../../src/core/ledger/signed-entry';
import { signerFor } from './signing';
import { failing } from './seen-errors';

/** An engine under test. */
export interface Engine {
  open(product: string): Promise<Ledger>;
  /** Changes or removes the second entry behind Hod's back. */
  tamper(how: 'change' | 'remove'): Promise<void>;
  /** Removes everything. */
  clear(): Promise<void>;
}

const product = 'skerry-line';
const versions = ['2.3.9', '2.4.0', '2.4.1', '2.5.0-rc.1', '3.0.0'].map(parseVersion);

/**
 * What a job did to images in one of two environments: everything that an entry can say, with names
 * that JavaScript has ideas of its own about.
 */
export const anyAction: fc.Arbitrary<Action> = fc
  .record({
    kind: fc.constantFrom(
      'published',
      'promoted',
      'rolled-back',
      'result',
      'signed-off',
      'moved',
      'staged',
      'failed',
      'referrers',
      'announced',
      'base-moved',
      'rules-accepted',
      'entries-accepted',
      'compacted',
      'removing',
      'removed',
      'returned',
    ),
    environment: fc.constantFrom('dev', 'uat', 'constructor'),
    build: fc.nat(5),
    names: fc.subarray(['timetable', 'tide-watch', 'constructor', '__proto__'], { minLength: 1 }),
    version: fc.option(fc.constantFrom(...versions), { nil: undefined }),
    platforms: fc.subarray(['linux/amd64', 'linux/arm64']),
    ways: fc.array(fc.constantFrom(...ways), { minLength: 4, maxLength: 4 }),
  })
  .map(({ kind, environment, build, names, version, platforms, ways: chosen }): Action => {
    const commit = commitSchema.parse(String(build).repeat(40));
    const components = names.map((component) => ({
      component,
      repository: formatRepository({
        registry: `${environment}.test`,
        name: `skerry/${component.replaceAll('_', 'x')}`,
      }),
      digest: sha256(`${component} ${build}`),
      mediaType: 'm',
      size: 1,
      platforms,
    }));
    if (kind === 'staged') {
      return { kind, commit, environment, parts: components };
    }
    if (kind === 'failed') {
      return { kind, commit, components: names, reason: 'it ran out of time' };
    }
    const referrers = components.map(({ repository, digest }) => ({
      repository,
      subject: digest,
      referrers: [{ digest: sha256(`signature ${build}`), type: build % 2 === 0 ? recordType : 'a/signature' }],
    }));
    if (kind === 'rules-accepted') {
      const rules = { environments: [] };
      return { kind, environment, digest: rulesDigest(rules), rules, reason: 'x', inForce: build % 2 === 0 };
    }
    if (kind === 'entries-accepted') {
      return { kind, from: 1, to: 1 + build, reason: 'x' };
    }
    if (kind === 'compacted') {
      const digests = { digest: sha256('old'), hashes: hashesDigest([]) };
      return { kind, file: 'old.jsonl', ...digests, entries: 1, total: 1 + build, through: 1 + build };
    }
    if (kind === 'removing' || kind === 'removed') {
      const contents = components.map(({ component, repository, digest }) => {
        const releases = [releaseId({ product, commit, version: undefined, components })];
        return { ...{ repository, digest, components: [component], releases }, tags: [tagSchema.parse(`c-${build}`)] };
      });
      const environments = [{ environment, keep: '1 release' }];
      return kind === 'removing'
        ? { kind, environments, contents: contents.map((each) => ({ ...each, manifests: [each.digest] })) }
        : {
            kind,
            claim: 1,
            environments,
            contents: contents.map((each) => ({ ...each, removed: [each.digest], left: [] })),
          };
    }
    if (kind === 'returned') {
      return {
        kind,
        environment,
        release: releaseId({ product, commit, version: undefined, components }),
        components,
        tags: [],
      };
    }
    if (kind === 'base-moved') {
      const bases = components.map(({ component, digest }) => {
        return { component, commit, platform: 'linux/amd64', name: 'dev.test/base:12', was: digest, is: null };
      });
      return { kind, environment, bases };
    }
    if (kind === 'announced') {
      return { kind, receivers: names.map((receiver) => ({ receiver, seq: build, hash: null })) };
    }
    if (kind === 'referrers') {
      return { kind, environment, referrers };
    }
    const release = releaseId({ product, commit, version, components });
    const releases = [{ release, content: contentId(components) }];
    if (kind === 'result') {
      return { kind, name: 'smoke', passed: build % 2 === 0, environment, releases };
    }
    if (kind === 'moved') {
      const places = components.map(({ component, repository }) => ({ component, from: repository, repository }));
      const tags = components.map(({ component, repository, digest }) => {
        return {
          component,
          repository,
          digest,
          tag: tagSchema.parse('main'),
          kind: 'moving' as const,
          release,
          commit,
        };
      });
      const gone = components.map(({ component, repository }) => ({
        component,
        repository,
        tag: tagSchema.parse('2'),
      }));
      return { kind, environment, reason: 'it moved', places, lanes: ['line 2.4'], tags, gone, referrers };
    }
    if (kind === 'signed-off') {
      return { kind, environment, releases };
    }
    if (kind === 'rolled-back') {
      const at = timestampOf(new Date(Date.UTC(2026, 0, 1)));
      const served = components.map((each) => ({
        component: each.component,
        is: build === 0 ? null : { ...each, commit, release, since: at, step: 1, by: 'una', tags: [] },
      }));
      const target = (digest: Digest) => (build === 0 ? null : { digest, release, commit });
      return {
        kind,
        environment,
        reason: 'it is wrong',
        back: build,
        withdrawn: releases,
        releases: [release],
        served,
        lanes: served.map((each) => ({ lane: 'line 2.4', ...each })),
        tags: components.map(({ component, repository, digest }) => {
          return { component, repository, tag: tagSchema.parse('main'), is: target(digest) };
        }),
      };
    }
    const tag = (text: string, tagKind: 'fixed' | 'moving') =>
      components.map(({ component, repository, digest }) => {
        return { component, repository, digest, tag: tagSchema.parse(text), kind: tagKind };
      });
    const arrival = {
      release,
      commit,
      ...(version === undefined ? {} : { version }),
      environment,
      components,
      tags: [...tag(`c-${build}`, 'fixed'), ...tag('main', 'moving')],
      arrivals: names.map((component, at) => ({
        component,
        way: chosen[at] ?? 'held',
        lanes: ['line 2.4', 'branch main'],
        tagged: ['branch main'],
      })),
      replaces: [release],
      rules: { ...judgedBy(build), ...(build % 2 === 0 ? { commit, inForce: true } : {}) },
      gates: [{ gate: 'right-build', detail: 'it is' }],
      ...(build > 3 ? { referrers } : {}),
    };
    const images = components.flatMap(({ component }) =>
      platforms.map((platform) => {
        // Builds share images: several components hold one, and a config is that of several.
        const digest = sha256(`${platform} ${build % 2}`);
        return { component, platform, digest, config: sha256(`config ${build % 3}`) };
      }),
    );
    return kind === 'promoted' ? { kind, from: 'dev', ...arrival } : { kind: 'published', ...arrival, images };
  });

/** Rules as an entry has them. */
function judgedBy(count: number): JudgedBy {
  const gates: AdmissionRules = {
    ...noAdmissionRules,
    signOffs: count % 3,
    freeze: [
      { from: { weekday: 5, hour: 16, minute: 0 }, to: { weekday: 1, hour: 8, minute: 0 }, zone: 'Europe/Dublin' },
    ],
  };
  const rules = { environments: [{ name: 'dev', after: null, takes: ['main'], gates }] };
  return { digest: rulesDigest(rules), rules };
}

/** Some actions, always the same. */
export function sampleActions(count: 1): [Action];
export function sampleActions(count: 3): [Action, Action, Action];
export function sampleActions(count: number): Action[];
export function sampleActions(count: number): Action[] {
  return fc.sample(anyAction, { numRuns: count, seed: 42 });
}

/** The entry that follows a head. */
export function following(head: Head, action: Action, of = product): SealedEntry {
  const at = timestampOf(new Date(Date.UTC(2026, 0, 1, 0, 0, head.seq)));
  return entryAfter(head, { product: of, at, actor: 'una', action });
}

/** The facts that entries add up to, from the first one on. */
export function foldedOf(entries: readonly SealedEntry[]): Facts {
  const ledger = new MemoryLedger();
  entries.forEach((sealed) => ledger.add(sealed));
  return ledger.facts;
}

/** Adds actions, each in an entry of its own. */
export async function appendAll(ledger: Ledger, actions: readonly Action[], of = product): Promise<void> {
  for (const action of actions) {
    const { head } = await ledger.read([]);
    expect(await ledger.append([following(head, action, of)], head)).toBeDefined();
  }
}

/** Every fact of a ledger, without who set it. */
export function factsOf(ledger: Ledger): Promise<StoredFact[]> {
  return ledger.snapshot(async (content) => (await all(content.facts())).map(({ key, text }) => ({ key, text })));
}

/** Everything that a ledger or a part of it holds. */
export async function all<T>(of: AsyncIterable<T>): Promise<T[]> {
  const items: T[] = [];
  for await (const each of of) {
    items.push(each);
  }
  return items;
}

/** A test result of this name. */
function resultNamed(name: string): Action {
  return { kind: 'result', environment: 'dev', name, passed: true, releases: [] };
}

/** A publication of many images under many tags: more values than a statement takes parameters. */
function largePublication(componentCount: number, tagCount: number): Action {
  const commit = commitSchema.parse('a'.repeat(40));
  const components = Array.from({ length: componentCount }, (_, at) => ({
    component: `image-${at}`,
    repository: formatRepository({ registry: 'dev.test', name: `skerry/image-${at}` }),
    digest: sha256(`image ${at}`),
    mediaType: 'm',
    size: 1,
    platforms: ['linux/amd64'],
  }));
  const tags = components.flatMap(({ component, repository, digest }) =>
    Array.from({ length: tagCount }, (_, at) => {
      return { component, repository, digest, tag: tagSchema.parse(`t-${at}`), kind: 'fixed' as const };
    }),
  );
  const release = releaseId({ product, commit, version: undefined, components });
  const gates = [{ gate: 'right-build', detail: 'it is' }];
  const arrivals = components.map(({ component }) => ({
    component,
    way: 'takes-over' as const,
    lanes: ['branch main'],
    tagged: ['branch main'],
  }));
  return { kind: 'published', release, commit, environment: 'dev', components, tags, arrivals, gates };
}

/** An entry of each kind, with a version and without. */
const oneOfEachKind = [
  ...new Map(
    fc
      .sample(anyAction, { numRuns: 1_000, seed: 31 })
      .map((action) => [`${action.kind} ${'version' in action && action.version !== undefined}`, action] as const),
  ).values(),
];

/** What every engine must do. `runs`: how many random histories are played. */
export function keepsALedger(engine: Engine, { runs }: { runs: number } = { runs: 40 }): void {
  afterEach(() => engine.clear());

  test('entries come back in order, chained, and the facts are the fold over all of them', async () => {
    const kinds = new Set<string>();
    await fc.assert(
      fc.asyncProperty(fc.array(anyAction, { maxLength: 12 }), fc.nat(12), async (actions, together) => {
        await engine.clear();
        const ledger = await engine.open(product);
        await appendAll(ledger, actions.slice(together));
        // Some in one append, as an import does it.
        let { head } = await ledger.read([]);
        const first = head;
        const batch = actions.slice(0, together).map((action) => {
          const sealed = following(head, action);
          head = headAfter(sealed);
          return sealed;
        });
        expect(await ledger.append(batch, first)).toBeDefined();

        const entries = await all(ledger.entries());
        const ordered = [...actions.slice(together), ...actions.slice(0, together)];
        expect(entries.map(({ entry }) => entry.action)).toEqual(JSON.parse(JSON.stringify(ordered)));
        const cut = entries[Math.floor(entries.length / 2)];
        const rest = cut && (await all(ledger.entries(headAfter(cut))));
        expect(rest ?? []).toEqual(entries.slice(Math.floor(entries.length / 2) + 1));
        const folded = foldedOf(entries).all();
        folded.forEach(({ key }) => kinds.add(key.kind));
        const read = await ledger.read(folded.map(({ key }) => key));
        expect(new Set(read.facts.all())).toEqual(new Set(folded));
        expect(new Set(await factsOf(ledger))).toEqual(new Set(folded));
        expect(read.head.seq).toBe(actions.length);
        await ledger.close();
      }),
      // However few are played, every kind of entry is among them.
      { numRuns: runs, examples: [[oneOfEachKind, 3]] },
    );
    expect(kinds).toEqual(new Set(factKinds));
  });

  test('of two who decided on the same head, one is told to decide again', async () => {
    const [first, second] = [await engine.open(product), await engine.open(product)];
    const [one, other, more] = sampleActions(3);
    const { head } = await first.read([]);
    const both = await Promise.all([
      first.append([following(head, one)], head),
      second.append([following(head, other)], head),
    ]);
    expect(both.filter((milliseconds) => milliseconds !== undefined)).toHaveLength(1);
    expect(await all(second.entries())).toHaveLength(1);
    // Several entries are all written, or none is.
    const late = following(head, one);
    const next = following(headAfter(late), more);
    expect(await second.append([late, next], head)).toBeUndefined();
    expect(await all(second.entries())).toHaveLength(1);
    await Promise.all([first.close(), second.close()]);
  });

  test('an append to several ledgers is in all of them or in none, whoever is first in one', async () => {
    const writer = async (name: string, products: readonly string[]): Promise<void> => {
      const ledgers = await Promise.all(products.map((each) => engine.open(each)));
      const attempt = async (): Promise<boolean> => {
        const appends = await Promise.all(
          ledgers.map(async (ledger, at) => {
            const { head } = await ledger.read([]);
            return { ledger, entries: [following(head, resultNamed(name), products[at])], expected: head };
          }),
        );
        return (await ledgers[0]?.appendTogether(appends)) !== undefined;
      };
      while (!(await attempt())) {
        // Somebody else was first.
      }
      await Promise.all(ledgers.map((ledger) => ledger.close()));
    };
    await writer('first', [product, 'other']);
    await Promise.all([
      writer('both-1', [product, 'other']),
      writer('alone-1', ['other']),
      writer('both-2', ['other', product]),
      writer('alone-2', [product]),
    ]);
    const namesIn = async (of: string): Promise<string[]> => {
      const ledger = await engine.open(of);
      const names = (await all(ledger.entries())).map(({ entry }) => ('name' in entry.action ? entry.action.name : ''));
      await ledger.close();
      return names;
    };
    const [own, others] = [await namesIn(product), await namesIn('other')];
    expect(own.toSorted()).toEqual(['alone-2', 'both-1', 'both-2', 'first']);
    expect(others.toSorted()).toEqual(['alone-1', 'both-1', 'both-2', 'first']);
    // Both were written in the same order.
    const joint = (names: readonly string[]) => names.filter((name) => !name.startsWith('alone'));
    expect(joint(own)).toEqual(joint(others));
    // One that follows an older head keeps the other out.
    const [line, other] = [await engine.open(product), await engine.open('other')];
    const [{ head }, { head: second }] = [await line.read([]), await other.read([])];
    expect(
      await line.appendTogether([
        { ledger: line, entries: [following(head, resultNamed('late'))], expected: head },
        { ledger: other, entries: [following(emptyHead, resultNamed('late'), 'other')], expected: emptyHead },
      ]),
    ).toBeUndefined();
    expect([(await line.read([])).head, (await other.read([])).head]).toEqual([head, second]);
    await Promise.all([line.close(), other.close()]);
  });

  test('500 images under 40 tags each are one entry, and are read in one statement', async () => {
    const ledger = await engine.open(product);
    const large = largePublication(500, 40);
    await appendAll(ledger, [large]);
    const folded = foldedOf([following(emptyHead, large)]).all();
    expect(folded.length).toBeGreaterThan(20_000);
    const read = await ledger.read(folded.map(({ key }) => key));
    expect(read.facts.all()).toHaveLength(folded.length);
    await ledger.close();
  });

  test('the ledgers of other products in the same place are found by the repositories that they share', async () => {
    const names = ['skerry-line', 'skerry-cargo', 'skerry-mail'];
    const ledgers: Ledger[] = [];
    for (const name of names) {
      const ledger = await engine.open(name);
      await appendAll(ledger, [largePublication(2, 2)], name);
      ledgers.push(ledger);
    }
    const [line] = ledgers;
    const shared = [1, 7].map((at) => formatRepository({ registry: 'dev.test', name: `skerry/image-${at}` }));
    const found = (await line?.neighbours(shared)) ?? [];
    expect(found.map(({ product: name }) => name).sort()).toEqual(['skerry-cargo', 'skerry-mail']);
    for (const { product: name, entries } of found) {
      const [entry] = await all(entries());
      expect(entry?.entry).toMatchObject({ product: name, seq: 1, action: { kind: 'published' } });
      expect(await all(entries(entry && headAfter(entry)))).toEqual([]);
    }
    await Promise.all(ledgers.map((ledger) => ledger.close()));
  });

  test('what is looked at as a whole is of one moment, whoever appends meanwhile', async () => {
    const [reader, writer] = [await engine.open(product), await engine.open(product)];
    await appendAll(writer, sampleActions(3));
    await reader.snapshot(async (content) => {
      const seen: SealedEntry[] = [];
      for await (const sealed of content.entries()) {
        seen.push(sealed);
        if (seen.length === 1) {
          await appendAll(writer, sampleActions(3));
        }
      }
      const facts = (await all(content.facts())).map(({ key, text }) => ({ key, text }));
      expect(new Set(facts)).toEqual(new Set(foldedOf(seen).all()));
    });
    expect(await all(reader.entries())).toHaveLength(6);
    await Promise.all([reader.close(), writer.close()]);
  });

  test('entries that are moved into a file leave their hashes, and the chain and the facts are whole', async () => {
    const file = join(mkdtempSync(join(tmpdir(), 'hod-moved-')), 'old.jsonl');
    const ledger = await engine.open(product);
    const verify = (files: readonly string[]) =>
      ledger.snapshot((content) =>
        verifyContent(content, { ...{ label: 'it', trust: signerFor('build').trust, product }, files }),
      );
    await appendAll(ledger, sampleActions(12));
    const before = await factsOf(ledger);
    const entries = await all(ledger.entries());
    const names: string[] = [];
    // Twice, the second time some between those that are gone; then entries go on.
    for (const seqs of [
      [2, 3, 4, 7, 12],
      [1, 5, 11, 13],
    ]) {
      const name = `${file}.${seqs.length}`;
      const { head } = await ledger.read([compactedKey]);
      const appended = await ledger.snapshot(async (content) => {
        const kept = await all(content.entries());
        const moved = kept.flatMap(({ entry, hash }) => (seqs.includes(entry.seq) ? [{ seq: entry.seq, hash }] : []));
        const digest = await writeMovedTexts(name, content, { seqs: new Set(seqs), isNew: true });
        const action = compactedAction({ file: name, digest }, moved, await compactedEntries(content));
        const sealed = following(head, action);
        // Who is late moves nothing.
        expect(
          await ledger.append([sealed], entries[0] === undefined ? head : headAfter(entries[0]), seqs),
        ).toBeUndefined();
        return [sealed] as const;
      });
      expect(await ledger.append(appended, head, seqs)).toBeDefined();
      names.push(name);
    }
    await appendAll(ledger, sampleActions(2));

    const gone = [1, 2, 3, 4, 5, 7, 11, 12, 13];
    const all16 = Array.from({ length: 16 }, (_, at) => at + 1);
    const kept = await all(ledger.entries());
    expect(kept.map(({ entry }) => entry.seq)).toEqual(all16.filter((seq) => !gone.includes(seq)));
    expect(kept.slice(0, 3)).toEqual(entries.filter(({ entry }) => [6, 8, 9].includes(entry.seq)));
    const ninth = entries[8];
    expect(ninth && (await all(ledger.entries(headAfter(ninth)))).map(({ entry }) => entry.seq)).toEqual([
      10, 14, 15, 16,
    ]);
    const after = new Map((await factsOf(ledger)).map(({ key, text }) => [factName(key), text]));
    before
      .filter(({ key }) => key.kind === 'digest')
      .forEach(({ key, text }) => expect(after.get(factName(key))).toBe(text));

    expect(await verify([])).toMatchObject({ isWhole: false, head: { seq: 16 }, compacted: { total: 9, through: 13 } });
    expect(await verify(names)).toMatchObject({ isWhole: true, facts: after.size });
    await expect(verify(names.slice(1))).rejects.toThrow(/moved from the ledger into a file/);
    const whole = await ledger.snapshot((content) => all(wholeEntries(content, names, product)));
    expect(whole.map(({ entry }) => entry.seq)).toEqual(all16);
    expect(whole.slice(0, 12)).toEqual(entries);
    const copied = new MemoryLedger();
    whole.forEach((sealed) => copied.add(sealed));
    expect(new Set(await factsOf(copied))).toEqual(new Set(await factsOf(ledger)));
    await ledger.close();
  });

  test('signatures come back with their entries, and only a signed head is built on', async () => {
    const [build, stranger] = [signerFor('build'), signerFor('stranger')];
    const ledger = await engine.open(product);
    const [first, ...others] = sampleActions(4);
    const circumstances = { product, at: timestampOf(new Date()), actor: 'una' };
    await appendAll(ledger, first === undefined ? [] : [first]);
    for (const [at, action] of others.entries()) {
      const { head } = await ledger.read([]);
      const signer = at === 2 ? stranger : build;
      await ledger.append([await signedEntryAfter(head, { ...circumstances, action }, signer)], head);
      const state = await ledger.read([]);
      expect(state.facts.get('state', stateKey.key)?.signedSince).toBe(2);
      const checked = checkSignedHead(ledger, state, build, others);
      await (at === 2 ? expect(checked).rejects.toThrow(/not signed by a trusted key/) : checked);
      await expect(checkSignedHead(ledger, state, undefined, others)).rejects.toThrow(/signs nothing/);
    }
    expect(await readSignatures(ledger, build.trust)).toMatchObject({
      ...{ since: 2, signers: [{ by: 'build', entries: 2, first: 2, last: 3 }] },
      unsigned: [{ from: 4, to: 4, problem: 'it is not signed by anybody who is trusted' }],
    });
    await ledger.close();
  });

  test('products share a database without seeing each other', async () => {
    const ledger = await engine.open(product);
    const other = await engine.open('other');
    await appendAll(ledger, sampleActions(1));
    expect((await other.read([])).head).toEqual(emptyHead);
    await Promise.all([ledger.close(), other.close()]);
  });

  test.each(['change', 'remove'] as const)(
    'where somebody else may %s an entry: reading the entries says so',
    async (how) => {
      const ledger = await engine.open(product);
      await appendAll(ledger, sampleActions(3));
      await engine.tamper(how);
      await failing('ledger-entry-corrupt', () => all(ledger.entries()));
      await ledger.close();
    },
  );
}

/** How somebody with access to a database does it. `entries`: the table of entries. */
export function tampering(entries: string, how: 'change' | 'remove'): string {
  return how === 'change'
    ? `UPDATE ${entries} SET text = replace(text, 'una', 'eve') WHERE seq = 2`
    : `DELETE FROM ${entries} WHERE seq = 2`;
}
