import { execFileSync, spawn } from 'node:child_process';
import { once } from 'node:events';
import { join } from 'node:path';
import { build } from 'esbuild';
import { MiB, quick, report, root } from './harness.mjs';

/** Reading a ledger at two lengths, the serialised step with many writers at once, and one large entry. */
export async function measureLedgers() {
  const found = await runBundled('ledger.ts');
  const ms = (value) => `${value.toFixed(2)} ms`;
  for (const [
    engine,
    { lengths, short, long, identified, writers, append, appends, repeated, large },
  ] of Object.entries(found)) {
    report(
      `which release is a digest, ${lengths.long} entries, ${engine}`,
      `${lengths.short} entries ${ms(identified.short)}`,
      ms(identified.long),
      `× ${(identified.long / identified.short).toFixed(2)}`,
      '≤ × 1.5',
      identified.long / identified.short <= 1.5,
    );
    report(
      `state of a ledger, ${lengths.long} entries, ${engine}`,
      `${lengths.short} entries ${ms(short)}`,
      ms(long),
      `× ${(long / short).toFixed(2)}`,
      '≤ × 1.5',
      long / short <= 1.5,
    );
    report(
      `serialised step, ${writers} writers, ${engine}`,
      '–',
      `${ms(append)} (${appends} appends, ${repeated} decided again)`,
      '–',
      engine === 'PostgreSQL' ? '≤ 20 ms' : '–',
      engine === 'PostgreSQL' ? append <= 20 : undefined,
    );
    report(
      `append of ${large.components} images × ${large.tags} tags, ${engine}`,
      '–',
      `${ms(large.append)}, 1 statement; read before ${ms(large.read)}`,
      '–',
      '< 1 s',
      large.append < 1000,
    );
  }
}

/** A ledger in a git remote: reading it in a fresh clone at two lengths, the serialised step, and the growth of the repository. */
export async function measureGitLedger() {
  const { lengths, short, long, identified, append, releases, bytesEach } = await runBundled('git-ledger.ts');
  const ratio = long / short;
  report(
    `state of a ledger in git, in a fresh clone, ${lengths.long} entries`,
    `${lengths.short} entries ${short.toFixed(0)} ms`,
    `${long.toFixed(0)} ms`,
    `× ${ratio.toFixed(2)}`,
    '≤ × 1.5',
    ratio <= 1.5,
  );
  report(
    `which release is a digest, in a fresh clone, ${lengths.long} entries, git`,
    `${lengths.short} entries ${identified.short.toFixed(0)} ms`,
    `${identified.long.toFixed(0)} ms`,
    `× ${(identified.long / identified.short).toFixed(2)}`,
    '≤ × 1.5',
    identified.long / identified.short <= 1.5,
  );
  report('serialised step, one writer, git', '–', `${append.toFixed(0)} ms`, '–', '< 400 ms', append < 400);
  const size = `${(bytesEach / 1000).toFixed(1)} kB`;
  report(
    `${releases} releases of 5 images, published and promoted twice: packed, each`,
    '–',
    size,
    '–',
    '< 10 kB',
    bytesEach < 10_000,
  );
}

/** Starts a PostgreSQL server, runs work with its URL, and ends it. */
export async function withPostgres(work) {
  const server = spawn(process.execPath, [await bundled('postgres.ts')], { stdio: ['pipe', 'pipe', 'inherit'] });
  const [url] = await once(server.stdout.setEncoding('utf8'), 'data');
  try {
    return await work(url.trim());
  } finally {
    server.stdin.end();
    await once(server, 'exit');
  }
}

/** Runs a program of this folder, and answers the document that it prints. */
export async function runBundled(name, ...args) {
  return JSON.parse(
    execFileSync(process.execPath, [await bundled(name), ...args, ...(quick ? ['--quick'] : [])], {
      encoding: 'utf8',
      maxBuffer: 64 * MiB,
    }),
  );
}

/** Bundles a program of this folder. Answers its path. */
async function bundled(name) {
  const program = join(root, 'dist', `bench-${name.replace('.ts', '.mjs')}`);
  await build({
    entryPoints: [join(root, 'bench', name)],
    outfile: program,
    bundle: true,
    format: 'esm',
    platform: 'node',
    external: ['libsql', 'pg', 'pg-native'],
    banner: { js: "import { createRequire } from 'node:module';\nconst require = createRequire(import.meta.url);" },
    logLevel: 'warning',
  });
  return program;
}
