import { execFileSync, spawnSync } from 'node:child_process';
import { join } from 'node:path';
import { writeFleet } from './fleet.mjs';
import { configure, folder, hod, inSeconds, inTurn, median, report, withRegistry } from './harness.mjs';

/** What a user waits for each day: the start of the program, and the little that a command asks when nothing changed. */
export async function measureStartup() {
  await measure('hod --version', ['--version'], 1.25);
  await measure('a refused command line', ['publsh'], 1.3);
  await withRegistry(async (port) => {
    const host = `127.0.0.1:${port}`;
    const remote = join(folder, 'ledger.git');
    execFileSync('git', ['init', '--quiet', '--bare', remote]);
    for (const [where, ledger, goals] of [
      ['', 'ledger: { file: ../startup.db }', [2, 2.5]],
      [', ledger in a git remote', `ledger: { git: { remote: ${remote} } }`, [undefined, 4]],
    ]) {
      const path = join(folder, `startup${goals[1]}`);
      const images = Object.fromEntries(writeFleet(path, 4).map((name) => [name, name]));
      configure(path, images, `${host}/a${goals[1]}`, `${host}/b`, ledger);
      const git = (...args) => execFileSync('git', ['-C', path, ...args], { stdio: 'ignore' });
      git('init', '--quiet', '--initial-branch', 'main');
      git('add', 'hod.yaml');
      git('-c', 'user.name=una', '-c', 'user.email=una@skerry.test', 'commit', '--quiet', '--message', 'Begin');
      run(path, ['publish']);
      await measure(`status, 4 images${where}`, ['status', 'dev'], goals[0], path);
      await measure(`publish again, 4 images${where}`, ['publish'], goals[1], path);
    }
  });
}

function run(cwd, args) {
  const begun = performance.now();
  const { status, stderr } = spawnSync(process.execPath, args[0] === '-e' ? args : [hod, ...args], {
    cwd,
    encoding: 'utf8',
    env: { PATH: process.env.PATH, HOME: folder, CI: 'true' },
  });
  if (status !== 0 && args[0] !== 'publsh') {
    throw new Error(`${args.join(' ')}: ${stderr.slice(0, 2000)}`);
  }
  return (performance.now() - begun) / 1000;
}

/** Runs a command beside a Node.js that does nothing, in turn. */
async function measure(work, args, limit, cwd = folder) {
  const [bare, own] = await inTurn([() => run(cwd, ['-e', '0']), () => run(cwd, args)], 21);
  const ratio = median(own.map((each, at) => each / bare[at]));
  const goal = limit === undefined ? '–' : `≤ × ${limit}`;
  const reached = limit === undefined ? undefined : ratio <= limit;
  report(work, `node -e 0 ${inSeconds(median(bare))}`, inSeconds(median(own)), `× ${ratio.toFixed(2)}`, goal, reached);
}
