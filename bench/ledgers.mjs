import { execFileSync } from 'node:child_process';
import { join } from 'node:path';
import { build } from 'esbuild';
import { quick, report, root } from './harness.mjs';

/** Reading a ledger at two lengths, the serialised step with many writers at once, and one large entry. */
export async function measureLedgers() {
  const program = join(root, 'dist', 'bench-ledger.mjs');
  await build({
    entryPoints: [join(root, 'bench', 'ledger.ts')],
    outfile: program,
    bundle: true,
    format: 'esm',
    platform: 'node',
    packages: 'external',
    logLevel: 'warning',
  });
  const found = JSON.parse(
    execFileSync(process.execPath, [program, ...(quick ? ['--quick'] : [])], { encoding: 'utf8' }),
  );
  const ms = (value) => `${value.toFixed(2)} ms`;
  for (const [engine, { lengths, short, long, writers, append, appends, repeated, large }] of Object.entries(found)) {
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
      `append of ${large.images} images × ${large.tags} tags, ${engine}`,
      '–',
      `${ms(large.append)}, 1 statement; read before ${ms(large.read)}`,
      '–',
      '< 1 s',
      large.append < 1000,
    );
  }
}
