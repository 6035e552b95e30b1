import Database from 'libsql';
import fc from 'fast-check';
import { existsSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { HodError } from '../../src/core/errors';
import { sha256 } from '../../src/core/oci/digest';
import { emptyHead, type Action, type Entry, type Head } from '../../src/core/release/entry';
import { Facts, foldEntry } from '../../src/core/release/facts';
import { expandTag, parseTemplate } from '../../src/core/tags/template';
import { openSqliteLedger } from '../../src/ledger/sqlite';
import type { Ledger } from '../../src/ledger/ledger';

const product = 'skerry-line';
const main = expandTag(parseTemplate('main'), { product }, 'timetable');
let folder: string;
beforeEach(() => (folder = mkdtempSync(join(tmpdir(), 'hod-ledger-'))));
afterEach(() => rmSync(folder, { recursive: true }));
const file = () => join(folder, 'ledger.db');
const open = () => openSqliteLedger({ file: file(), product, access: 'write' });

const action: fc.Arbitrary<Action> = fc
  .record({
    environment: fc.constantFrom('dev', 'uat'),
    build: fc.nat(5),
    image: fc.constantFrom('timetable', 'tide-watch'),
    current: fc.boolean(),
    promoted: fc.boolean(),
  })
  .map(({ environment, build, image, current, promoted }) => {
    const digest = sha256(`${image} ${build}`);
    const repository = `${environment}.test/skerry/${image}`;
    const landing = {
      release: sha256(String(build)),
      commit: String(build).repeat(40),
      environment,
      images: [{ image, repository, digest, mediaType: 'm', size: 1, platforms: ['linux/amd64'] }],
      tags: 'tag' in main ? [{ image, repository, tag: main.tag, kind: 'moving' as const, digest }] : [],
      current,
    };
    return promoted ? { kind: 'promoted', from: 'dev', ...landing } : { kind: 'published', ...landing };
  });

function entryAfter(head: Head, what: Action): Entry {
  const at = new Date(Date.UTC(2026, 0, 1, 0, 0, head.seq)).toISOString();
  return { product, seq: head.seq + 1, previous: head.hash, at, actor: 'una', action: what };
}

async function append(ledger: Ledger, what: Action): Promise<void> {
  const { head } = await ledger.read([]);
  expect(await ledger.append(entryAfter(head, what), head)).toBe(true);
}

async function entriesOf(ledger: Ledger): Promise<Entry[]> {
  const entries = [];
  for await (const entry of ledger.entries()) {
    entries.push(entry);
  }
  return entries;
}

test('entries come back in order, chained, and the snapshot is the fold over all of them', async () => {
  await fc.assert(
    fc.asyncProperty(fc.array(action, { maxLength: 12 }), async (actions) => {
      rmSync(file(), { force: true });
      const ledger = open();
      for (const each of actions) {
        await append(ledger, each);
      }
      const entries = await entriesOf(ledger);
      expect(entries.map((entry) => entry.action)).toEqual(JSON.parse(JSON.stringify(actions)));
      const state = new Facts();
      for (const entry of entries) {
        foldEntry(entry, state)
          .all()
          .forEach(({ key, text }) => state.load(key, text));
      }
      const all = state.all();
      const read = await ledger.read(all.map(({ key }) => key));
      expect(read.facts.all()).toEqual(all);
      expect(read.head.seq).toBe(actions.length);
      await ledger.close();
    }),
    { numRuns: 40 },
  );
});

test('of two who decided on the same head, one is told to decide again', async () => {
  const [first, second] = [open(), open()];
  const [one, other] = fc.sample(action, 2);
  const { head } = await first.read([]);
  const both = await Promise.all([
    first.append(entryAfter(head, one as Action), head),
    second.append(entryAfter(head, other as Action), head),
  ]);
  expect(both).toEqual([true, false]);
  expect(await entriesOf(second)).toHaveLength(1);
  await Promise.all([first.close(), second.close()]);
});

test('products share a file without seeing each other', async () => {
  const ledger = open();
  const other = openSqliteLedger({ file: file(), product: 'other', access: 'write' });
  await append(ledger, fc.sample(action, 1)[0] as Action);
  expect((await other.read([])).head).toEqual(emptyHead);
  await Promise.all([ledger.close(), other.close()]);
});

test.each([
  ['a text was changed', "UPDATE entries SET text = replace(text, 'una', 'eve') WHERE seq = 2"],
  ['an entry was removed', 'DELETE FROM entries WHERE seq = 2'],
])('%s: reading the entries says so', async (_, sql) => {
  const ledger = open();
  for (const each of fc.sample(action, 3)) {
    await append(ledger, each);
  }
  const raw = new Database(file());
  raw.exec(sql);
  raw.close();
  await expect(entriesOf(ledger)).rejects.toMatchObject({ fault: 'corrupt' });
  await ledger.close();
});

test('a file that is no ledger is refused, and reading makes no file', async () => {
  const reader = openSqliteLedger({ file: file(), product, access: 'read' });
  expect((await reader.read([])).head).toEqual(emptyHead);
  await reader.close();
  expect(existsSync(file())).toBe(false);
  writeFileSync(file(), 'this is not a database, and long enough to be looked at'.repeat(20));
  expect(open).toThrow(HodError);
});
