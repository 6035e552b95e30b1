import { spawnSync } from 'node:child_process';
import { hod, inSeconds, inTurn, median, report } from './harness.mjs';

/** What a command costs that does nothing. */
export async function measureStartup() {
  for (const [work, args] of [
    ['hod --version', ['--version']],
    ['a refused command line', ['publsh']],
  ]) {
    const startup = (line) => () =>
      median(
        Array.from({ length: 9 }, () => {
          const begun = performance.now();
          spawnSync(process.execPath, line);
          return (performance.now() - begun) / 1000;
        }),
      );
    const [bare, own] = await inTurn([startup(['-e', '0']), startup([hod, ...args])]);
    const ratio = median(own.map((each, at) => each / bare[at]));
    const yardstick = `node -e 0 ${inSeconds(median(bare))}`;
    report(work, yardstick, inSeconds(median(own)), `× ${ratio.toFixed(2)}`, '≤ × 1.5', ratio <= 1.5);
  }
}
