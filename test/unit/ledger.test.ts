import { MemoryLedger } from '../../src/ledger/memory';
import Database from 'libsql';
import fc from 'fast-check';
import { execFileSync } from 'node:child_process';
import { existsSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { factsReadBy } from '../../src/core/ledger/entries';
import { emptyHead, foldInto } from '../../src/core/ledger/entry';
import { factName, Facts } from '../../src/core/ledger/facts';
import { factsOfParcel, packedEntry, type PackedEntry } from '../../src/core/ledger/parcel-document';
import { sha256 } from '../../src/core/oci/digest';
import { ledgerForm } from '../../src/ledger/form';
import { openSqliteLedger } from '../../src/ledger/engines/sqlite';
import { all, anyAction, appendAll, following, keepsALedger, sampleActions, tampering } from '../support/ledger-suite';
import { failing } from '../support/seen-errors';

const folder = mkdtempSync(join(tmpdir(), 'hod-ledger-'));
afterAll(() => rmSync(folder, { recursive: true }));
const file = join(folder, 'ledger.db');
const open = (product: string, access: 'read' | 'write' = 'write') =>
  openSqliteLedger({ file, product, access, waiting: () => undefined });

function raw(sql: string): void {
  const database = new Database(file);
  database.exec(sql);
  database.close();
}

const clear = () => rmSync(file, { force: true });

describe('a ledger in a SQLite file', () => {
  keepsALedger({
    open,
    tamper: (how) => Promise.resolve(raw(tampering('entries', how))),
    clear: () => Promise.resolve(clear()),
  });

  test('a file of another form, or that is no ledger, is refused; reading makes no file', async () => {
    const reader = await open('skerry-line', 'read');
    expect((await reader.read([])).head).toEqual(emptyHead);
    await reader.close();
    expect(existsSync(file)).toBe(false);
    for (const form of [ledgerForm + 1, ledgerForm - 1]) {
      clear();
      raw(`PRAGMA user_version = ${form}`);
      await failing('ledger-other-form', () => open('skerry-line'));
    }
    writeFileSync(file, 'this is not a database, and long enough to be looked at'.repeat(20));
    await failing('ledger-corrupt', () => open('skerry-line'));
  });

  test('products of one run that open and close the same file do not take the locks of each other', async () => {
    const ledger = await open('skerry-line');
    await appendAll(ledger, sampleActions(1));
    for (const access of ['read', 'write'] as const) {
      await (await openSqliteLedger({ file, product: 'other', access, waiting: () => undefined })).close();
    }
    // Who closes the file as the last one removes its log, under everybody who is not known to have it open.
    const other = `const file = new (require('libsql'))(process.argv[1]); file.exec('CREATE TABLE other (a)'); file.close()`;
    execFileSync(process.execPath, ['-e', other, file], { cwd: process.cwd() });
    expect(existsSync(`${file}-wal`)).toBe(true);
    await appendAll(ledger, sampleActions(1));
    expect(await all(ledger.entries())).toHaveLength(2);
    await ledger.close();
  });

  test('the entry that follows names the hash of the one before', async () => {
    const ledger = await open('skerry-line');
    await appendAll(ledger, sampleActions(2));
    const [first, second] = await all(ledger.entries());
    expect(second?.entry.previous).toBe(first?.hash);
    const [action] = sampleActions(1);
    const forged = following({ seq: 2, hash: first?.hash ?? null }, action);
    expect(await ledger.append([forged], { seq: 2, hash: first?.hash ?? null })).toBeUndefined();
    await ledger.close();
  });
});

test('a fold reads no fact that it did not name: what it names is enough', () => {
  fc.assert(
    fc.property(fc.array(anyAction, { maxLength: 8 }), anyAction, (before, action) => {
      const ledger = new MemoryLedger();
      before.forEach((each) => {
        ledger.add(following(ledger.head, each));
      });
      const complete = ledger.facts;
      const named = factsReadBy(action);
      const partial = new Facts(named);
      const names = new Set(named.map(factName));
      complete
        .all()
        .filter(({ key }) => names.has(factName(key)))
        .forEach(({ key, text }) => partial.load(key, text));
      const { entry } = following(ledger.head, action);
      expect(foldInto(partial, entry)).toEqual(foldInto(complete, entry));
    }),
    { numRuns: 300 },
  );
});

test('the entries of a parcel are any part of a ledger, in its order; each is as it was written, or none counts', () => {
  fc.assert(
    fc.property(
      fc.array(anyAction, { minLength: 1, maxLength: 8 }),
      fc.infiniteStream(fc.boolean()),
      (actions, keeps) => {
        const ledger = new MemoryLedger();
        const entries = actions.map((each) => {
          const sealed = following(ledger.head, each);
          ledger.add(sealed);
          return packedEntry(sealed);
        });
        const product = 'skerry-line';
        const part = entries.filter(() => keeps.next().value);
        expect(factsOfParcel({ product, entries: part })).toBeInstanceOf(Facts);
        expect(factsOfParcel({ product, entries })?.all().length).toBe(ledger.facts.all().length);
        const [first] = entries;
        const wrong = (change: Partial<PackedEntry>): PackedEntry[] =>
          entries.map((entry) => (entry === first ? { ...entry, ...change } : entry));
        expect(factsOfParcel({ product: 'skerry-cargo', entries })).toBeUndefined();
        expect(factsOfParcel({ product, entries: wrong({ text: `${first?.text ?? ''} ` }) })).toBeUndefined();
        expect(factsOfParcel({ product, entries: wrong({ hash: sha256('another') }) })).toBeUndefined();
        expect(factsOfParcel({ product, entries: wrong({ seq: 9 }) })).toBeUndefined();
        expect(factsOfParcel({ product, entries: [...entries, ...entries] })).toBeUndefined();
      },
    ),
    { numRuns: 200 },
  );
});
