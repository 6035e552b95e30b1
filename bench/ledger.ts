// Measures ledgers: reading the state at two lengths, and the step that is serialised, with many writers at once.
// Prints one JSON document. `--quick` uses shorter ledgers.
import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { setTimeout as delay } from 'node:timers/promises';
import { commitSchema, type CommitId } from '../src/core/commit';
import { sha256 } from '../src/core/oci/digest';
import { formatRepository } from '../src/core/oci/reference';
import { factsReadBy, type Action } from '../src/core/release/actions';
import { emptyHead, entryAfter, headAfter, type Head, type SealedEntry } from '../src/core/release/entry';
import { tagKey, type FactKey } from '../src/core/release/facts';
import { releaseIdSchema } from '../src/core/release/release';
import { tagSchema } from '../src/core/tags/tag';
import { linesOf, parseVersion } from '../src/core/tags/version';
import { timestampOf } from '../src/core/time';
import type { Ledger } from '../src/ledger/ledger';
import { openPostgresLedger } from '../src/ledger/engines/postgres';
import { openSqliteLedger } from '../src/ledger/engines/sqlite';
import { RealPostgres } from '../test/support/real-postgres';

const quick = process.argv.includes('--quick');
const lengths = { short: 100, long: quick ? 5_000 : 100_000 };
const reads = 300;
const writers = { count: 24, appends: quick ? 4 : 20, pause: 1000 };
const batchSize = 100;
const repository = formatRepository({ registry: 'dev.skerry.test', name: 'skerry/timetable' });
const at2026 = timestampOf(new Date(Date.UTC(2026, 10, 23)));

const commitOf = (at: number): CommitId => commitSchema.parse(at.toString(16).padStart(40, '0'));

/** The publication of a build: a new commit and version, and a branch that moves on. */
function publication(at: number): Extract<Action, { kind: 'published' }> {
  const digest = sha256(String(at));
  const version = parseVersion(`${Math.floor(at / 1000)}.${Math.floor(at / 10) % 100}.${at % 10}`);
  const tag = (name: string, kind: 'fixed' | 'moving') => ({
    image: 'timetable',
    repository,
    tag: tagSchema.parse(name),
    kind,
    digest,
  });
  return {
    kind: 'published',
    release: releaseIdSchema.parse(sha256(`release ${at}`)),
    commit: commitOf(at),
    version,
    branch: 'main',
    environment: 'dev',
    images: [{ image: 'timetable', repository, digest, mediaType: 'm', size: 1000, platforms: ['linux/amd64'] }],
    tags: [tag(`c-${at}`, 'fixed'), tag(version, 'fixed'), tag('main', 'moving'), tag('latest', 'moving')],
    current: true,
  };
}

function sealed(head: Head, product: string, at: number): SealedEntry {
  return entryAfter(head, { product, at: at2026, actor: 'una', action: publication(at) });
}

async function fill(ledger: Ledger, product: string, length: number): Promise<void> {
  let head = emptyHead;
  for (let at = 0; at < length;) {
    const batch: SealedEntry[] = [];
    const before = head;
    for (; batch.length < batchSize && at < length; at += 1) {
      const entry = sealed(head, product, at);
      batch.push(entry);
      head = headAfter(entry);
    }
    if ((await ledger.append(batch, before)) === undefined) {
      throw new Error('somebody else wrote into the ledger');
    }
  }
}

/** What a publication asks for. */
function keysAt(at: number): FactKey[] {
  const version = parseVersion(`${Math.floor(at / 1000)}.${Math.floor(at / 10) % 100}.${at % 10}`);
  return [
    { kind: 'environment', key: 'dev' },
    { kind: 'release', key: sha256(`release ${at}`) },
    { kind: 'commit', key: commitOf(at) },
    { kind: 'version', key: version },
    ...linesOf(version).map((key): FactKey => ({ kind: 'line', key })),
    ...[`c-${at}`, version, 'main', 'latest'].map((tag): FactKey => ({
      kind: 'tag',
      key: tagKey(repository, tagSchema.parse(tag)),
    })),
  ];
}

const median = (values: readonly number[]): number =>
  [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)] ?? NaN;

async function measure(open: (product: string) => Promise<Ledger>) {
  const [short, long] = [await open('short'), await open('long')];
  await fill(short, 'short', lengths.short);
  await fill(long, 'long', lengths.long);
  const times = { short: [] as number[], long: [] as number[] };
  for (let round = 0; round < reads; round += 1) {
    for (const [ledger, name, length] of [
      [short, 'short', lengths.short],
      [long, 'long', lengths.long],
    ] as const) {
      const keys = keysAt(Math.floor(Math.random() * length));
      const begun = performance.now();
      const { facts } = await ledger.read(keys);
      times[name].push(performance.now() - begun);
      if (facts.all().length !== keys.length) {
        throw new Error('facts are missing');
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
    writers: writers.count,
    append: median(appends),
    appends: appends.length,
    repeated,
  };
}

/** One publication of a large product, appended as a whole. */
async function measureLarge(open: (product: string) => Promise<Ledger>) {
  const images = 500;
  const tags = 40;
  const small = publication(0);
  const names = Array.from({ length: images }, (_, at) => `image-${at}`);
  const placeOf = (image: string) => formatRepository({ registry: 'dev.skerry.test', name: `skerry/${image}` });
  const action: Action = {
    ...small,
    images: names.map((image) => ({
      image,
      repository: placeOf(image),
      digest: sha256(image),
      mediaType: 'm',
      size: 1000,
      platforms: ['linux/amd64'],
    })),
    tags: names.flatMap((image) =>
      Array.from({ length: tags }, (_, tag) => ({
        image,
        repository: placeOf(image),
        tag: tagSchema.parse(`t-${tag}`),
        kind: 'fixed' as const,
        digest: sha256(image),
      })),
    ),
  };
  const ledger = await open('large');
  const begun = performance.now();
  const { head } = await ledger.read(factsReadBy(action));
  const read = performance.now() - begun;
  const append = await ledger.append([entryAfter(head, { product: 'large', at: at2026, actor: 'una', action })], head);
  await ledger.close();
  return { images, tags, read, append };
}

const folder = mkdtempSync(join(tmpdir(), 'hod-bench-ledger-'));
const waiting = (): void => undefined;
const server = await RealPostgres.create();
try {
  const file = join(folder, 'ledger.db');
  const openSqlite = (product: string) => openSqliteLedger({ file, product, access: 'write', waiting });
  const openPostgres = (product: string) => openPostgresLedger({ url: server.url, product, access: 'write', waiting });
  const sqlite = { ...(await measure(openSqlite)), large: await measureLarge(openSqlite) };
  const postgres = { ...(await measure(openPostgres)), large: await measureLarge(openPostgres) };
  process.stdout.write(JSON.stringify({ SQLite: sqlite, PostgreSQL: postgres }));
} finally {
  await server.close();
  rmSync(folder, { recursive: true });
}
