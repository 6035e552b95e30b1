import fc from 'fast-check';
import { sha256 } from '../../src/core/oci/digest';
import { emptyHead, entryAfter, type Action, type Head, type SealedEntry } from '../../src/core/release/entry';
import { Facts, foldEntry } from '../../src/core/release/facts';
import { expandTag, parseTemplate } from '../../src/core/tags/template';
import type { Ledger } from '../../src/ledger/ledger';

/** An engine under test. */
export interface Engine {
  open(product: string): Promise<Ledger>;
  /** Changes what is stored behind Hod's back. `entries` stands for the table of entries. */
  raw(statement: (entries: string) => string): Promise<void>;
  /** Removes everything. */
  clear(): Promise<void>;
}

const product = 'skerry-line';
const main = expandTag(parseTemplate('main'), { product }, 'timetable');

/** What a job did to one of two images in one of two environments. */
export const anyAction: fc.Arbitrary<Action> = fc
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

/** The entry that follows a head. */
export function following(head: Head, action: Action): SealedEntry {
  return entryAfter(head, {
    product,
    at: new Date(Date.UTC(2026, 0, 1, 0, 0, head.seq)).toISOString(),
    actor: 'una',
    action,
  });
}

/** Adds actions, each in an entry of its own. */
export async function appendAll(ledger: Ledger, actions: readonly Action[]): Promise<void> {
  for (const action of actions) {
    const { head } = await ledger.read([]);
    expect(await ledger.append([following(head, action)], head)).toBeDefined();
  }
}

/** Everything that a ledger or a part of it holds. */
export async function all<T>(of: AsyncIterable<T>): Promise<T[]> {
  const items: T[] = [];
  for await (const each of of) {
    items.push(each);
  }
  return items;
}

/** What every engine must do. */
export function keepsALedger(engine: Engine): void {
  afterEach(() => engine.clear());

  test('entries come back in order, chained, and the facts are the fold over all of them', async () => {
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
          head = { seq: sealed.entry.seq, hash: sealed.hash };
          return sealed;
        });
        expect(await ledger.append(batch, first)).toBeDefined();

        const entries = await all(ledger.entries());
        const ordered = [...actions.slice(together), ...actions.slice(0, together)];
        expect(entries.map(({ entry }) => entry.action)).toEqual(JSON.parse(JSON.stringify(ordered)));
        const state = new Facts();
        for (const { entry } of entries) {
          foldEntry(entry, state)
            .all()
            .forEach(({ key, text }) => state.load(key, text));
        }
        const folded = state.all();
        const read = await ledger.read(folded.map(({ key }) => key));
        expect(new Set(read.facts.all())).toEqual(new Set(folded));
        expect(new Set(await all(ledger.facts()))).toEqual(new Set(folded));
        expect(read.head.seq).toBe(actions.length);
        await ledger.close();
      }),
      { numRuns: 40 },
    );
  });

  test('of two who decided on the same head, one is told to decide again', async () => {
    const [first, second] = [await engine.open(product), await engine.open(product)];
    const [one, other, more] = fc.sample(anyAction, 3);
    const { head } = await first.read([]);
    const both = await Promise.all([
      first.append([following(head, one as Action)], head),
      second.append([following(head, other as Action)], head),
    ]);
    expect(both.filter((milliseconds) => milliseconds !== undefined)).toHaveLength(1);
    expect(await all(second.entries())).toHaveLength(1);
    // Several entries are all written, or none is.
    const late = following(head, one as Action);
    const next = following({ seq: late.entry.seq, hash: late.hash }, more as Action);
    expect(await second.append([late, next], head)).toBeUndefined();
    expect(await all(second.entries())).toHaveLength(1);
    await Promise.all([first.close(), second.close()]);
  });

  test('products share a database without seeing each other', async () => {
    const ledger = await engine.open(product);
    const other = await engine.open('other');
    await appendAll(ledger, fc.sample(anyAction, 1));
    expect((await other.read([])).head).toEqual(emptyHead);
    await Promise.all([ledger.close(), other.close()]);
  });

  test.each([
    [
      'a text was changed',
      (entries: string) => `UPDATE ${entries} SET text = replace(text, 'una', 'eve') WHERE seq = 2`,
    ],
    ['an entry was removed', (entries: string) => `DELETE FROM ${entries} WHERE seq = 2`],
  ])('%s: reading the entries says so', async (_, statement) => {
    const ledger = await engine.open(product);
    await appendAll(ledger, fc.sample(anyAction, 3));
    await engine.raw(statement);
    await expect(all(ledger.entries())).rejects.toMatchObject({ fault: 'corrupt' });
    await ledger.close();
  });
}
