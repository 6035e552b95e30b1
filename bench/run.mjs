// Measures Hod beside public tools, in turn in one run, and prints a table of medians and ratios.
// Needs Debian's docker-registry, postgresql and curl. `--quick` runs with smaller sizes and fewer rounds;
// `--startup`, `--ledger` and `--follow` run that part alone.
import { execFileSync, spawn, spawnSync } from 'node:child_process';
import { once } from 'node:events';
import { mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createServer } from 'node:net';
import { cpus, tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';
import { setTimeout as delay } from 'node:timers/promises';
import Table from 'cli-table3';
import { build } from 'esbuild';
import { writeLargeLayout } from '../scripts/large-layout.mjs';

const quick = process.argv.includes('--quick');
const MiB = 1024 * 1024;
const GiB = 1024 * MiB;
const total = quick ? 128 * MiB : GiB;
const rounds = quick ? 3 : 5;
const layers = 8;
const jobs = 4;

const root = fileURLToPath(new URL('..', import.meta.url));
const hod = join(root, 'dist', 'hod.js');
const peakMemory = join(root, 'test', 'support', 'peak-memory.cjs');
const folder = mkdtempSync(join(tmpdir(), 'hod-bench-'));
const commit = '1'.repeat(40);
const rows = [];

async function freePort() {
  const server = createServer().listen(0, '127.0.0.1');
  await once(server, 'listening');
  const { port } = server.address();
  server.close();
  await once(server, 'close');
  return port;
}

/** Starts an empty registry server, runs work with its port, and ends it. */
async function withRegistry(work) {
  const home = mkdtempSync(join(folder, 'registry-'));
  const port = await freePort();
  const config = {
    version: '0.1',
    log: { level: 'info', accesslog: { disabled: true } },
    storage: { filesystem: { rootdirectory: join(home, 'content') } },
    http: { addr: `127.0.0.1:${port}` },
  };
  writeFileSync(join(home, 'config.yml'), JSON.stringify(config));
  const server = spawn('docker-registry', ['serve', join(home, 'config.yml')], { stdio: ['ignore', 'ignore', 'pipe'] });
  for await (const line of createInterface({ input: server.stderr })) {
    if (line.includes('listening on')) {
      break;
    }
  }
  server.stderr.resume();
  try {
    return await work(port);
  } finally {
    server.kill();
    await once(server, 'exit');
    rmSync(home, { recursive: true, force: true });
  }
}

/** Writes hod.yaml for one image and two environments. */
function configure(path, from, dev, uat) {
  mkdirSync(path, { recursive: true });
  rmSync(join(path, '.hod'), { recursive: true, force: true });
  writeFileSync(
    join(path, 'hod.yaml'),
    `product: skerry-line
images: { timetable: { from: ${from} } }
environments:
  dev: { repository: "127.0.0.1:${dev}/skerry/{image}", tags: { fixed: ["c-{commit:12}", "{version}"], moving: ["{branch}"] } }
  uat: { after: dev, repository: "127.0.0.1:${uat}/uat/{image}", tags: { fixed: ["{version}"], moving: [uat] } }
`,
  );
}

/** Runs hod, and answers its document, its seconds and its peak memory in bytes. */
function runHod(path, ...args) {
  const peak = join(folder, 'peak');
  const env = { ...process.env, NODE_OPTIONS: `--require=${peakMemory}`, HOD_PEAK_FILE: peak };
  const begun = performance.now();
  const { status, stdout, stderr } = spawnSync(process.execPath, [hod, ...args, '--json', '--jobs', String(jobs)], {
    cwd: path,
    env,
  });
  if (status !== 0) {
    throw new Error(`hod ${args.join(' ')}: ${stderr}`);
  }
  const seconds = (performance.now() - begun) / 1000;
  return { document: JSON.parse(stdout), seconds, peak: Number(readFileSync(peak, 'utf8')) };
}

const publishArguments = ['publish', '--commit', commit, '--version', '1.0.0', '--branch', 'main'];

/** Runs shell lines, so many at once, and answers the seconds. */
function shell(lines) {
  const begun = performance.now();
  execFileSync('xargs', ['-d', '\n', '-P', String(jobs), '-I', '{}', 'bash', '-eo', 'pipefail', '-c', '{}'], {
    input: lines.join('\n'),
  });
  return (performance.now() - begun) / 1000;
}

const begin = (port, name) =>
  `loc=$(curl -sS -X POST -D - -o /dev/null http://127.0.0.1:${port}/v2/${name}/blobs/uploads/ | tr -d "\\r" | sed -n "s/^[Ll]ocation: //p"); `;
const putFile = (port, digest, file) =>
  `${begin(port, 'skerry/timetable')}curl -sS -f -T ${file} -H "Expect:" "$loc&digest=${digest}"`;
const putStream = (port, digest, source) =>
  `${begin(port, 'uat/timetable')}${source} | curl -sS -f -X PUT -T - -H "Expect:" "$loc&digest=${digest}"`;

const median = (values) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)];
const seconds = (value) => `${value.toFixed(2)} s`;
const megabytes = (value) => `${Math.round(value / 1e6)} MB`;
const report = (work, yardstick, measured, ratio, goal, reached) => {
  rows.push([work, yardstick, measured, ratio, goal, reached === undefined ? '–' : reached ? 'yes' : 'no']);
  console.error(`${work}: ${measured} (${ratio})`);
};
/** One round of each in turn, so that noise meets all; answers medians, and the medians of the rounds' ratios. */
async function inTurn(yardsticks, measured) {
  const found = [];
  for (let round = 0; round < rounds; round += 1) {
    const times = [];
    for (const yardstick of yardsticks) {
      times.push(await yardstick());
    }
    found.push({ times, taken: await measured() });
  }
  return {
    measured: median(found.map(({ taken }) => taken)),
    yardsticks: yardsticks.map((_, at) => ({
      seconds: median(found.map(({ times }) => times[at])),
      ratio: median(found.map(({ times, taken }) => taken / times[at])),
    })),
  };
}

/** Reports against a yardstick with a goal, and against one that does the same work, hashing included. */
function compare(work, names, { measured, yardsticks }) {
  yardsticks.forEach(({ seconds: taken, ratio }, at) => {
    const goal = at === 0 ? '≤ × 1.15' : '–';
    const reached = at === 0 ? ratio <= 1.15 : undefined;
    report(work, `${names[at]} ${seconds(taken)}`, seconds(measured), `× ${ratio.toFixed(2)}`, goal, reached);
  });
}

async function measureTransfers() {
  const layout = join(folder, 'image');
  const blobs = writeLargeLayout(layout, total, layers);
  const product = join(folder, 'product');
  const name = `${total / GiB >= 1 ? `${total / GiB} GiB` : `${total / MiB} MiB`} in ${layers} layers`;

  const peaks = [];
  const curlPut = (before) => () =>
    withRegistry(async (port) =>
      shell(blobs.map(({ digest, file }) => `${before(file)}${putFile(port, digest, file)}`)),
    );
  const hodPublish = () =>
    withRegistry(async (port) => {
      configure(product, layout, port, port);
      const { seconds: taken, peak } = runHod(product, ...publishArguments);
      peaks.push(peak);
      return taken;
    });
  const publish = await inTurn([curlPut(() => ''), curlPut((file) => `sha256sum ${file} >/dev/null; `)], hodPublish);
  compare(`publish ${name}`, ['curl PUT', 'sha256sum; curl PUT'], publish);
  report('peak memory of that', '–', megabytes(Math.max(...peaks)), '–', '≤ 160 MB', Math.max(...peaks) <= 160e6);

  await withRegistry(async (port) => {
    configure(product, layout, port, port);
    runHod(product, ...publishArguments);
    const { transfer } = runHod(product, ...publishArguments).document.images[0];
    report(
      'publish again, unchanged',
      '–',
      `${transfer.requests} requests, ${transfer.bytesSent} bytes`,
      '–',
      '≤ 3 an image, 0',
      transfer.requests <= 3 && transfer.bytesSent === 0,
    );
    const promoted = runHod(product, 'promote', 'uat').document.images[0].transfer;
    report(
      'promote within one registry',
      '–',
      `${promoted.bytesSent} bytes, ${promoted.blobsMounted} mounts, ${promoted.requests} requests`,
      '–',
      '0 bytes',
      promoted.bytesSent === 0,
    );
  });

  const copyPeaks = [];
  const copy = await withRegistry(async (from) => {
    configure(product, layout, from, from);
    runHod(product, ...publishArguments);
    const source = (digest) => `curl -sS -f http://127.0.0.1:${from}/v2/skerry/timetable/blobs/${digest}`;
    const curlCopy = (filter) => () =>
      withRegistry(async (to) => shell(blobs.map(({ digest }) => putStream(to, digest, `${source(digest)}${filter}`))));
    return inTurn([curlCopy(''), curlCopy(' | tee >(sha256sum >/dev/null)')], () =>
      withRegistry(async (to) => {
        configure(product, layout, from, to);
        runHod(product, ...publishArguments);
        const { seconds: taken, peak } = runHod(product, 'promote', 'uat');
        copyPeaks.push(peak);
        return taken;
      }),
    );
  });
  compare('promote across registries', ['curl GET | curl PUT', 'GET | sha256sum | PUT'], copy);
  report(
    'peak memory of that',
    '–',
    megabytes(Math.max(...copyPeaks)),
    '–',
    '≤ 160 MB',
    Math.max(...copyPeaks) <= 160e6,
  );
  rmSync(layout, { recursive: true });

  const large = join(folder, 'large');
  writeLargeLayout(large, 4 * total, 1);
  const largePeak = await withRegistry(async (port) => {
    configure(product, large, port, port);
    return runHod(product, ...publishArguments).peak;
  });
  report(
    `peak memory, one layer of ${(4 * total) / GiB} GiB`,
    megabytes(Math.max(...peaks)),
    megabytes(largePeak),
    `× ${(largePeak / Math.max(...peaks)).toFixed(2)}`,
    '≤ 160 MB, flat',
    largePeak <= 160e6,
  );
  rmSync(large, { recursive: true });
}

async function measureStartup() {
  for (const [work, args] of [
    ['hod --version', ['--version']],
    ['a refused command line', ['publsh']],
  ]) {
    const startup = (line) =>
      median(
        Array.from({ length: 9 }, () => {
          const begun = performance.now();
          spawnSync(process.execPath, line);
          return (performance.now() - begun) / 1000;
        }),
      );
    const { yardsticks, measured } = await inTurn([async () => startup(['-e', '0'])], async () =>
      startup([hod, ...args]),
    );
    const [{ seconds: yardstick, ratio }] = yardsticks;
    report(
      work,
      `node -e 0 ${seconds(yardstick)}`,
      seconds(measured),
      `× ${ratio.toFixed(2)}`,
      '≤ × 1.5',
      ratio <= 1.5,
    );
  }
}

async function measureLedgers() {
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
  for (const [engine, { lengths, short, long, writers, append, appends, repeated }] of Object.entries(found)) {
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
  }
}

/** A build writes its outputs one after the other; how long after the last one is everything published? */
async function measureFollowing() {
  const outputs = 6;
  const pause = (quick ? 6_000 : 60_000) / outputs;
  const product = join(folder, 'followed');
  const made = join(folder, 'made');
  const names = Array.from({ length: outputs }, (_, at) => `image-${at}`);
  names.forEach((name) => writeLargeLayout(join(made, name), (quick ? 8 : 64) * MiB, 2));
  const taken = await withRegistry(async (port) => {
    mkdirSync(join(product, 'out'), { recursive: true });
    const images = names.map((name) => `  ${name}: { from: out/${name} }`).join('\n');
    const tags = 'tags: { fixed: ["c-{commit:12}", "{version}"], moving: ["{branch}"] }';
    const config = `product: skerry-line\nimages:\n${images}\nenvironments:\n  dev: { repository: "127.0.0.1:${port}/skerry/{image}", ${tags} }\n`;
    writeFileSync(join(product, 'hod.yaml'), config);
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
    runHod(product, ...publishArguments);
    return (performance.now() - begun) / 1000;
  });
  const size = `${outputs} images of ${quick ? 8 : 64} MiB over ${(outputs * pause) / 1000} s`;
  report(`stage --follow, then publish: ${size}`, '–', `${seconds(taken)} after the last`, '–', '< 3 s', taken < 3);
}

const parts = {
  '--transfers': measureTransfers,
  '--follow': measureFollowing,
  '--ledger': measureLedgers,
  '--startup': measureStartup,
};
const chosen = Object.keys(parts).filter((part) => process.argv.includes(part));

try {
  for (const part of chosen.length === 0 ? Object.keys(parts) : chosen) {
    await parts[part]();
  }

  const table = new Table({
    head: ['work', 'yardstick', 'Hod', 'ratio', 'goal', 'reached'],
    style: { head: [], border: [] },
  });
  table.push(...rows);
  console.log(table.toString());
  console.log(
    `Medians of ${rounds} rounds, ${jobs} transfers at once. ${cpus().length} × ${cpus()[0]?.model ?? 'unknown'}, Node.js ${process.version}.`,
  );
} finally {
  rmSync(folder, { recursive: true, force: true });
}
