import Database from 'libsql';
import fc from 'fast-check';
import { existsSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { emptyHead } from '../../src/core/release/entry';
import { ledgerForms } from '../../src/ledger/sql-ledger';
import { openSqliteLedger } from '../../src/ledger/sqlite';
import { all, anyAction, appendAll, following, keepsALedger } from '../support/ledger-suite';

const folder = mkdtempSync(join(tmpdir(), 'hod-ledger-'));
afterAll(() => rmSync(folder, { recursive: true }));
const file = join(folder, 'ledger.db');
const open = (product: string, access: 'read' | 'write' = 'write') => openSqliteLedger({ file, product, access });

function raw(sql: string): void {
  const database = new Database(file);
  database.exec(sql);
  database.close();
}

const clear = () => rmSync(file, { force: true });

describe('a ledger in a SQLite file', () => {
  keepsALedger({
    open,
    raw: (statement) => Promise.resolve(raw(statement('entries'))),
    clear: () => Promise.resolve(clear()),
  });

  test('a file of the first form is brought to the newest, its facts folded anew', async () => {
    const actions = fc.sample(anyAction, 5);
    const newest = await open('skerry-line');
    await appendAll(newest, actions);
    const [entries, facts] = [await all(newest.entries()), await all(newest.facts())];
    await newest.close();
    clear();
    raw(`${ledgerForms[0]?.('') ?? ''} PRAGMA user_version = 1;`);
    const old = new Database(file);
    entries.forEach(({ entry, hash, text }) =>
      old.prepare('INSERT INTO entries VALUES (?, ?, ?, ?)').run('skerry-line', entry.seq, hash, text),
    );
    old.close();
    const ledger = await open('skerry-line', 'read');
    expect(await all(ledger.facts())).toEqual(facts);
    expect(await all(ledger.entries())).toEqual(entries);
    await ledger.close();
  });

  test('a file of a newer form, or that is no ledger, is refused; reading makes no file', async () => {
    const reader = await open('skerry-line', 'read');
    expect((await reader.read([])).head).toEqual(emptyHead);
    await reader.close();
    expect(existsSync(file)).toBe(false);
    raw(`PRAGMA user_version = ${ledgerForms.length + 1}`);
    await expect(open('skerry-line')).rejects.toMatchObject({ fault: 'unavailable' });
    writeFileSync(file, 'this is not a database, and long enough to be looked at'.repeat(20));
    await expect(open('skerry-line')).rejects.toMatchObject({ fault: 'corrupt' });
  });

  test('the entry that follows names the hash of the one before', async () => {
    const ledger = await open('skerry-line');
    await appendAll(ledger, fc.sample(anyAction, 2));
    const [first, second] = await all(ledger.entries());
    expect(second?.entry.previous).toBe(first?.hash);
    const forged = following({ seq: 2, hash: first?.hash ?? null }, fc.sample(anyAction, 1)[0] ?? never());
    expect(await ledger.append([forged], { seq: 2, hash: first?.hash ?? null })).toBeUndefined();
    await ledger.close();
  });
});

function never(): never {
  throw new Error('fast-check sampled nothing');
}
