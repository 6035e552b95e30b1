import { execFileSync, spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as delay } from 'node:timers/promises';
import { writeLargeLayout } from '../scripts/large-layout.mjs';
import {
  commit,
  configure,
  folder,
  hod,
  inSeconds,
  MiB,
  publishing,
  quick,
  report,
  runHod,
  withRegistry,
} from './harness.mjs';

/** A build writes its outputs one after the other; how long after the last one is everything published? */
export async function measureFollowing() {
  const outputs = 6;
  const pause = (quick ? 6_000 : 60_000) / outputs;
  const product = join(folder, 'followed');
  const made = join(folder, 'made');
  const names = Array.from({ length: outputs }, (_, at) => `image-${at}`);
  names.forEach((name) => writeLargeLayout(join(made, name), (quick ? 8 : 64) * MiB, 2));
  const taken = await withRegistry(async (port) => {
    mkdirSync(join(product, 'out'), { recursive: true });
    const host = `127.0.0.1:${port}`;
    configure(product, Object.fromEntries(names.map((name) => [name, `out/${name}`])), host, host);
    const following = spawn(process.execPath, [hod, 'stage', '--follow', 'out', '--commit', commit], {
      cwd: product,
      stdio: 'ignore',
    });
    const ended = once(following, 'exit');
    for (const name of names) {
      await delay(pause);
      execFileSync('cp', ['-r', join(made, name), join(product, 'out', name)]);
    }
    const begun = performance.now();
    writeFileSync(join(product, 'out', 'build-succeeded'), commit);
    const [code] = await ended;
    if (code !== 0) {
      throw new Error(`hod stage --follow ended with ${code}`);
    }
    runHod(product, ...publishing);
    return (performance.now() - begun) / 1000;
  });
  const size = `${outputs} images of ${quick ? 8 : 64} MiB over ${(outputs * pause) / 1000} s`;
  report(`stage --follow, then publish: ${size}`, '–', `${inSeconds(taken)} after the last`, '–', '< 3 s', taken < 3);
}
