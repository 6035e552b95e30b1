import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { configure, folder, inMegabytes, inSeconds, median, report, rounds, runHod } from './harness.mjs';
import { runBundled } from './ledgers.mjs';

const references = 10_000;
const [secondsGoal, memoryGoal] = [2, 110e6];

/** What it takes to tell which releases a text of references names, each of another release. */
export async function measureIdentifying() {
  const path = join(folder, 'identifying');
  configure(path, { timetable: 'out' }, 'dev.skerry.test', 'uat.skerry.test');
  mkdirSync(join(path, '.hod'));
  const named = await runBundled('identify-ledger.ts', join(path, '.hod', 'ledger.db'), String(references));
  writeFileSync(join(path, 'nodes.txt'), `${named.join('\n')}\n`);
  const runs = Array.from({ length: rounds }, () => runHod(path, 'identify', 'nodes.txt'));
  if (runs.some(({ document }) => document.found.filter(({ is }) => is === 'component').length !== references)) {
    throw new Error('references were not identified');
  }
  const seconds = median(runs.map((each) => each.seconds));
  const work = `identify, ${references} references of as many releases`;
  report(work, '–', inSeconds(seconds), '–', `≤ ${secondsGoal} s`, seconds <= secondsGoal);
  const peak = Math.max(...runs.map((each) => each.peak));
  report('peak memory of that', '–', inMegabytes(peak), '–', `≤ ${memoryGoal / 1e6} MB`, peak <= memoryGoal);
}
