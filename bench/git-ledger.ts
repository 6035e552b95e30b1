// Measures a ledger in a git remote: reading it in a fresh clone at two lengths, an append, and how much the
// repository grows. Prints one JSON document. `--quick` uses shorter ledgers.
import { execFileSync } from 'node:child_process';
import { mkdtempSync, readdirSync, rmSync, statSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { sha256 } from '../src/core/oci/digest';
import { formatRepository } from '../src/core/oci/reference';
import type { Action } from '../src/core/ledger/entries';
import { entryAfter } from '../src/core/ledger/entry';
import { releaseIdSchema } from '../src/core/ledger/release';
import { tagSchema, type Tag } from '../src/core/oci/tag';
import { identifyDigest } from '../src/inspect/identify-digest';
import { openGitLedger } from '../src/ledger/engines/git';
import { at2026, fill, keysAt, median, publication } from './ledger-content';

const quick = process.argv.includes('--quick');
const lengths = { short: 100, long: quick ? 5_000 : 100_000 };
const reads = quick ? 5 : 15;
const releases = quick ? 50 : 1_000;

const folder = mkdtempSync(join(tmpdir(), 'hod-bench-git-'));
let caches = 0;

function git(repository: string, ...args: string[]): string {
  return execFileSync('git', ['-C', repository, ...args], { encoding: 'utf8', stdio: ['ignore', 'pipe', 'ignore'] });
}

/** A bare repository that sends parts. */
function bare(name: string): string {
  const path = join(folder, name);
  execFileSync('git', ['init', '--quiet', '--bare', path]);
  git(path, 'config', 'uploadpack.allowFilter', 'true');
  // It would tidy up behind the back of what is measured.
  git(path, 'config', 'receive.autogc', 'false');
  return path;
}

/** Opens a ledger as a job in a fresh clone does. */
function open(repository: string, product: string) {
  const refOf = (name: string) => `refs/hod/${name}`;
  const ref = refOf(product);
  const place = { label: ref, ref, refOf, url: `file://${repository}`, settings: [], remoteSettings: [], folder };
  const cache = join(folder, `cache-${(caches += 1)}`);
  return openGitLedger({ place, cache, product, access: 'read', waiting: () => undefined });
}

/** How many milliseconds it takes in a fresh clone to find the release of a digest. */
async function timeToIdentify(repository: string, product: 'short' | 'long'): Promise<number> {
  const digest = sha256(String(Math.floor(Math.random() * lengths[product])));
  const begun = performance.now();
  const ledger = await open(repository, product);
  const { kind } = await identifyDigest(digest, ledger);
  const taken = performance.now() - begun;
  await ledger.close();
  if (kind !== 'known') {
    throw new Error('a digest is not found');
  }
  return taken;
}

const packed = (repository: string): number => {
  git(repository, 'gc', '--quiet', '--prune=now');
  const packs = join(repository, 'objects', 'pack');
  return readdirSync(packs).reduce((sum, name) => sum + statSync(join(packs, name)).size, 0);
};

/** A release of five images on its way through three environments, four tags in the first and three in the last. */
function life(at: number): Action[] {
  const one = publication(at);
  const names = ['timetable', 'boarding-gate', 'tide-watch', 'ticket-office', 'fare-tables'];
  const release = releaseIdSchema.parse(sha256(`release ${at}`));
  return (['dev', 'uat', 'prod'] as const).map((environment): Action => {
    const components = names.map((component) => ({
      component,
      repository: formatRepository({ registry: `${environment}.skerry.test`, name: `skerry/${component}` }),
      digest: sha256(`${component} ${at}`),
      mediaType: 'application/vnd.oci.image.index.v1+json',
      size: 1000,
      platforms: ['linux/amd64', 'linux/arm64'],
    }));
    const tags = (tag: string, kind: 'fixed' | 'moving') =>
      components.map(({ component, repository, digest }) => ({
        component,
        repository,
        digest,
        tag: tagSchema.parse(tag) satisfies Tag,
        kind,
      }));
    const moving = { dev: ['main'], uat: ['uat'], prod: ['latest', `${Math.floor(at / 1000)}`] }[environment];
    const fixed = environment === 'dev' ? [`c-${one.commit.slice(28)}`, one.version ?? ''] : [one.version ?? ''];
    const arrival = {
      release,
      commit: one.commit,
      ...(one.version === undefined ? {} : { version: one.version }),
      branch: 'main',
      environment,
      components,
      tags: [...fixed.flatMap((tag) => tags(tag, 'fixed')), ...moving.flatMap((tag) => tags(tag, 'moving'))],
      arrivals: names.map((component) => ({
        component,
        way: 'takes-over' as const,
        lanes: ['branch main'],
        tagged: ['branch main'],
      })),
      gates: [{ gate: 'right-build', detail: 'every image was built from this commit' }],
    };
    return environment === 'dev'
      ? { kind: 'published', ...arrival }
      : { kind: 'promoted', from: environment === 'uat' ? 'dev' : 'uat', ...arrival };
  });
}

try {
  const repository = bare('lengths.git');
  for (const [product, length] of Object.entries(lengths)) {
    const ledger = await open(repository, product);
    await fill(ledger, product, length, 20_000);
    await ledger.close();
  }
  const times = { short: [] as number[], long: [] as number[] };
  const found = { short: [] as number[], long: [] as number[] };
  for (let round = 0; round < reads; round += 1) {
    for (const product of ['short', 'long'] as const) {
      const keys = keysAt(Math.floor(Math.random() * lengths[product]));
      const begun = performance.now();
      const ledger = await open(repository, product);
      const { facts } = await ledger.read(keys, 'known');
      times[product].push(performance.now() - begun);
      await ledger.close();
      if (facts.all().length < keys.length) {
        throw new Error('facts are missing');
      }
      found[product].push(await timeToIdentify(repository, product));
    }
  }
  const growing = bare('growing.git');
  const ledger = await open(growing, 'skerry-line');
  const appends: number[] = [];
  for (let at = 0; at < releases; at += 1) {
    for (const action of life(at)) {
      const { head } = await ledger.read([]);
      const taken = await ledger.append(
        [entryAfter(head, { product: 'skerry-line', at: at2026, actor: 'una@skerry.test', action })],
        head,
      );
      if (taken === undefined) {
        throw new Error('somebody else wrote into the ledger');
      }
      appends.push(taken);
    }
  }
  await ledger.close();
  process.stdout.write(
    JSON.stringify({
      lengths,
      short: median(times.short),
      long: median(times.long),
      identified: { short: median(found.short), long: median(found.long) },
      append: median(appends),
      releases,
      bytesEach: packed(growing) / releases,
    }),
  );
} finally {
  rmSync(folder, { recursive: true });
}
