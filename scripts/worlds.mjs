// Plays random worlds of the models on all processors: npm run worlds -- --minutes 30 [--model NAME] [--seed N]
import { spawn } from 'node:child_process';
import { availableParallelism, tmpdir } from 'node:os';
import { mkdtempSync, rmSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { build } from 'esbuild';

process.chdir(fileURLToPath(new URL('..', import.meta.url)));
const folder = mkdtempSync(join(tmpdir(), 'worlds-'));
const program = join(folder, 'play.mjs');
await build({
  entryPoints: ['test/models/play.ts'],
  outfile: program,
  bundle: true,
  platform: 'node',
  format: 'esm',
  target: 'node20',
  banner: { js: "import { createRequire } from 'node:module'; const require = createRequire(import.meta.url);" },
  logLevel: 'error',
});
const args = process.argv.slice(2);
const players = args.includes('--seed') ? 1 : availableParallelism();
const ended = Array.from({ length: players }, () => {
  const player = spawn(process.execPath, ['--enable-source-maps', program, ...args], { stdio: 'inherit' });
  return new Promise((resolve) => player.on('close', resolve));
});
const codes = await Promise.all(ended);
rmSync(folder, { recursive: true });
process.exitCode = codes.some((code) => code !== 0) ? 1 : 0;
