import { execFileSync, type ChildProcess } from 'node:child_process';
import { mkdtemp, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import { writeSampleLayout } from '../../src/sandbox/sample/sample-image';
import { hod, hodJson } from './hod';
import { chance } from './random';
import { readRepository } from './registry-reader';

const random = chance();

/** A build of the fleet: a commit on its branch, and the version that it asks for. */
interface Build {
  at: number;
  commit: string;
  branch: 'main' | 'support';
  version: string[];
  config: string;
}

/** What a fleet left, and how long its serialised steps took. */
export interface FleetReport {
  /** Milliseconds of each append to the ledger. */
  appends: number[];
  /** How often a decision had to be made again. */
  repeated: number;
  killed: number;
  versions: number;
}

/**
 * Publishes many builds of one product with many processes at once, nearly in order, some of them
 * killed and run again; then checks everything that must hold, whatever happened.
 *
 * @param ledger `ledger:` in hod.yaml.
 */
export async function publishesAsAFleet(
  ledger: string,
  env: Record<string, string>,
  { builds: count, processes }: { builds: number; processes: number },
): Promise<FleetReport> {
  const folder = await mkdtemp(join(tmpdir(), 'hod-fleet-'));
  const registry = await startSandboxRegistry({ port: 0 });
  try {
    const builds = await makeBuilds(folder, count, `dev.localhost:${registry.port}`, ledger);
    const report: FleetReport = { appends: [], repeated: 0, killed: 0, versions: 0 };
    const run = async (build: Build, kill: boolean): Promise<void> => {
      const args = [
        'publish',
        '--config',
        build.config,
        '--commit',
        build.commit,
        '--branch',
        build.branch,
        '--verbose',
      ];
      const ended = await hod([...args, ...build.version], {
        cwd: folder,
        env,
        started: (child) => (kill ? killSoon(child) : undefined),
      });
      for (const [, time = '', attempt = ''] of ended.stderr.matchAll(/written in ([\d.]+) ms, at attempt (\d+)/g)) {
        report.appends.push(Number(time));
        report.repeated += Number(attempt) - 1;
      }
      if (ended.code === null) {
        report.killed += 1;
        return run(build, false);
      }
      if (ended.code !== 0) {
        throw new Error(`build ${build.at} ended with ${ended.code}: ${ended.stderr.slice(-1500)}`);
      }
    };
    const [first, ...others] = builds;
    if (first !== undefined) {
      await run(first, false);
    }
    const queue = others.map((build) => ({ build, key: build.at + 40 * random() })).sort((a, b) => a.key - b.key);
    const lane = async (): Promise<void> => {
      for (let next = queue.shift(); next !== undefined; next = queue.shift()) {
        await run(next.build, random() < 0.2);
      }
    };
    const ended = await Promise.allSettled(Array.from({ length: processes }, lane));
    const failure = ended.find((each) => each.status === 'rejected');
    if (failure !== undefined) {
      throw failure.reason;
    }
    report.versions = await checkOutcome(builds, folder, env, registry.port);
    return report;
  } finally {
    await registry.close();
    await rm(folder, { recursive: true, force: true });
  }
}

/** Ends a process the hard way, at any moment of its life. */
function killSoon(child: ChildProcess): void {
  setTimeout(() => child.kill('SIGKILL'), 200 + 4000 * random());
}

/** A history with a main line that takes the next versions, and a support line with versions of its own. */
async function makeBuilds(folder: string, count: number, registry: string, ledger: string): Promise<Build[]> {
  const git = (args: string[], input?: string): string =>
    execFileSync('git', args, { cwd: folder, encoding: 'utf8', ...(input === undefined ? {} : { input }) }).trim();
  git(['init', '--quiet', '--initial-branch=main']);
  const branches = Array.from({ length: count }, (_, at) => (at % 5 === 4 ? 'support' : 'main'));
  const history = branches.map((branch, at) => {
    const from = at > 0 && branches.indexOf(branch) === at ? 'from :1\n' : '';
    const who = `committer Una Skerry <una@skerry.test> ${1_770_000_000 + at} +0000`;
    return `commit refs/heads/${branch}\nmark :${at + 1}\n${who}\ndata 0\n${from}\n`;
  });
  git(['fast-import', '--quiet', '--export-marks=marks'], history.join(''));
  const marks = new Map(
    (await readFile(join(folder, 'marks'), 'utf8'))
      .trim()
      .split('\n')
      .map((line): [string, string] => {
        const [mark = '', id = ''] = line.slice(1).split(' ');
        return [mark, id];
      }),
  );
  const builds: Build[] = [];
  let supported = 0;
  for (const [at, branch] of branches.entries()) {
    const commit = marks.get(String(at + 1)) ?? '';
    const layers = [{ 'app/build': `build ${at}` }];
    await writeSampleLayout(join(folder, 'out', String(at)), [{ platform: 'linux/amd64', revision: commit, layers }]);
    const config = join(folder, `hod-${at}.yaml`);
    await writeFile(
      config,
      [
        'product: skerry-line',
        `images: { timetable: { from: out/${at} } }`,
        `environments: { dev: { follows: [main, support], repository: "${registry}/skerry/{image}", tags: { fixed: ["c-{commit:12}", "{version}"], moving: ["{branch}", "{major}.{minor}", latest] } } }`,
        `ledger: ${ledger}`,
        '',
      ].join('\n'),
    );
    const version =
      at === 0 ? ['--version', '1.0.0'] : branch === 'main' ? ['--next', 'patch'] : ['--version', `0.9.${supported++}`];
    builds.push({ at, commit, branch, version, config });
  }
  return builds;
}

/** Every guarantee at once: fixed tags, moving tags, versions, and a ledger that lacks nothing. */
async function checkOutcome(
  builds: readonly Build[],
  folder: string,
  env: Record<string, string>,
  port: number,
): Promise<number> {
  const { tags } = await readRepository(port, 'skerry/timetable');
  const at = (build: Build | undefined): string | undefined => tags[`c-${build?.commit.slice(0, 12) ?? ''}`];
  // Every build has its commit tag, and no two share a digest.
  expect(new Set(builds.map(at)).size).toBe(builds.length);
  expect(new Set(builds.map(at)).has(undefined)).toBe(false);
  const ofBranch = (branch: Build['branch']) => builds.filter((build) => build.branch === branch);
  expect(tags['main']).toBe(at(ofBranch('main').at(-1)));
  expect(tags['support']).toBe(at(ofBranch('support').at(-1)));
  const supported = ofBranch('support');
  supported.forEach((build, index) => expect(tags[`0.9.${index}`]).toBe(at(build)));
  expect(tags['0.9']).toBe(at(supported.at(-1)));
  // Versions that were taken: unique, without gaps, and in the order of the commits.
  const patches = Object.keys(tags).flatMap((tag) => /^1\.0\.(\d+)$/.exec(tag)?.slice(1).map(Number) ?? []);
  patches.sort((a, b) => a - b);
  expect(patches).toEqual(patches.map((_, index) => index));
  const holders = patches.map((patch) => ofBranch('main').findIndex((build) => at(build) === tags[`1.0.${patch}`]));
  expect(holders).toEqual([...new Set(holders)].sort((a, b) => a - b));
  // The newest commit has the newest version, whatever came before it.
  expect(holders.at(-1)).toBe(ofBranch('main').length - 1);
  expect(tags['1.0']).toBe(tags[`1.0.${patches.length - 1}`]);
  expect(tags['latest']).toBe(tags['1.0']);
  const config = builds[0]?.config ?? '';
  const sound = await hodJson('ledger-verify', ['ledger', 'verify', '--config', config], { cwd: folder, env });
  expect(sound.entries).toBe(builds.length);
  return patches.length;
}

/** The middle of some numbers. */
export function median(numbers: readonly number[]): number {
  return [...numbers].sort((a, b) => a - b)[Math.floor(numbers.length / 2)] ?? NaN;
}
