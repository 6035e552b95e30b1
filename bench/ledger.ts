// Measures ledgers: reading the state at two lengths, and the step that is serialised, with many writers at once.
// Prints one JSON document. `--quick` uses shorter ledgers.
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { setTimeout as delay } from 'node:timers/promises';
import { sha256 } from '../src/core/oci/digest';
import { formatRepository } from '../src/core/oci/reference';
import { factsReadBy, type Action } from '../src/core/ledger/entries';
import { entryAfter } from '../src/core/ledger/entry';
import { tagSchema } from '../src/core/oci/tag';
import { identifyDigest } from '../src/inspect/identify-digest';
import type { Ledger } from '../src/ledger/ledger';
import { openPostgresLedger, PostgresPools } from '../src/ledger/engines/postgres';
import { openSqliteLedger } from '../src/ledger/engines/sqlite';
import { RealPostgres } from '../test/support/real-postgres';
import { at2026, fill, keysAt, median, publication, sealed } from './ledger-content';

const quick = process.argv.includes('--quick');
const lengths = { short: 100, long: quick ? 5_000 : 100_000 };
const reads = 300;
const writers = { count: 24, appends: quick ? 4 : 20, pause: 1000 };
async function measure(open: (product: string) => Promise<Ledger>) {
  const [short, long] = [await open('short'), await open('long')];
  await fill(short, 'short', lengths.short);
  await fill(long, 'long', lengths.long);
  const times = { short: [] as number[], long: [] as number[] };
  const found = { short: [] as number[], long: [] as number[] };
  for (let round = 0; round < reads; round += 1) {
    for (const [ledger, name, length] of [
      [short, 'short', lengths.short],
      [long, 'long', lengths.long],
    ] as const) {
      const keys = keysAt(Math.floor(Math.random() * length));
      const begun = performance.now();
      const { facts } = await ledger.read(keys);
      times[name].push(performance.now() - begun);
      if (facts.all().length < keys.length) {
        throw new Error('facts are missing');
      }
      const digest = sha256(String(Math.floor(Math.random() * length)));
      const asked = performance.now();
      const { kind } = await identifyDigest(digest, ledger);
      found[name].push(performance.now() - asked);
      if (kind !== 'known') {
        throw new Error('a digest is not found');
      }
    }
  }
  await Promise.all([short.close(), long.close()]);

  const appends: number[] = [];
  let repeated = 0;
  await Promise.all(
    Array.from({ length: writers.count }, async (_, writer) => {
      const ledger = await open('busy');
      for (let round = 0; round < writers.appends; round += 1) {
        await delay(2 * writers.pause * Math.random());
        for (;;) {
          const { head } = await ledger.read([]);
          const taken = await ledger.append([sealed(head, 'busy', writer * 1000 + round)], head);
          if (taken !== undefined) {
            appends.push(taken);
            break;
          }
          repeated += 1;
        }
      }
      await ledger.close();
    }),
  );
  return {
    lengths,
    short: median(times.short),
    long: median(times.long),
    identified: { short: median(found.short), long: median(found.long) },
    writers: writers.count,
    append: median(appends),
    appends: appends.length,
    repeated,
  };
}

/** One publication of a large product, appended as a whole. */
async function measureLarge(open: (product: string) => Promise<Ledger>) {
  const components = 500;
  const tags = 40;
  const small = publication(0);
  const names = Array.from({ length: components }, (_, at) => `image-${at}`);
  const placeOf = (component: string) => formatRepository({ registry: 'dev.skerry.test', name: `skerry/${component}` });
  const action: Action = {
    ...small,
    components: names.map((component) => ({
      component,
      repository: placeOf(component),
      digest: sha256(component),
      mediaType: 'm',
      size: 1000,
      platforms: ['linux/amd64'],
    })),
    tags: names.flatMap((component) =>
      Array.from({ length: tags }, (_, tag) => ({
        component,
        repository: placeOf(component),
        tag: tagSchema.parse(`t-${tag}`),
        kind: 'fixed' as const,
        digest: sha256(component),
      })),
    ),
  };
  const ledger = await open('large');
  const begun = performance.now();
  const { head } = await ledger.read(factsReadBy(action));
  const read = performance.now() - begun;
  const append = await ledger.append([entryAfter(head, { product: 'large', at: at2026, actor: 'una', action })], head);
  await ledger.close();
  return { components, tags, read, append };
}

const folder = mkdtempSync(join(tmpdir(), 'hod-bench-ledger-'));
const waiting = (): void => undefined;
const pools = new PostgresPools();
const server = await RealPostgres.create();
try {
  const file = join(folder, 'ledger.db');
  const openSqlite = (product: string) => openSqliteLedger({ file, product, access: 'write', waiting });
  const openPostgres = (product: string) =>
    openPostgresLedger({ url: server.url, product, access: 'write', waiting, pools });
  const sqlite = { ...(await measure(openSqlite)), large: await measureLarge(openSqlite) };
  const postgres = { ...(await measure(openPostgres)), large: await measureLarge(openPostgres) };
  process.stdout.write(JSON.stringify({ SQLite: sqlite, PostgreSQL: postgres }));
} finally {
  await pools.close();
  await server.close();
  rmSync(folder, { recursive: true });
}
