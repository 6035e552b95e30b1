// Measures Hod beside public tools, in turn in one run, and prints a table of medians and ratios.
// Needs Debian's docker-registry and curl. `--quick` runs with smaller sizes and fewer rounds.
import { execFileSync, spawn, spawnSync } from 'node:child_process';
import { createHash, randomFillSync } from 'node:crypto';
import { once } from 'node:events';
import {
  closeSync,
  mkdirSync,
  mkdtempSync,
  openSync,
  readFileSync,
  renameSync,
  rmSync,
  writeFileSync,
  writeSync,
} from 'node:fs';
import { createServer } from 'node:net';
import { cpus, tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import { fileURLToPath } from 'node:url';
import Table from 'cli-table3';

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

/** Writes an image layout whose layers hold `size` bytes in all. Answers the layers' digests and files. */
function writeLayout(path, size, count) {
  const blobs = join(path, 'blobs', 'sha256');
  mkdirSync(blobs, { recursive: true });
  const piece = randomFillSync(Buffer.alloc(MiB));
  const found = [];
  for (let layer = 0; layer < count; layer += 1) {
    const hash = createHash('sha256');
    const file = openSync(join(path, 'layer'), 'w');
    for (let at = 0; at < size / count; at += MiB) {
      piece.writeUInt32LE(layer, 0);
      piece.writeUInt32LE(at / MiB, 4);
      hash.update(piece);
      writeSync(file, piece);
    }
    closeSync(file);
    const hex = hash.digest('hex');
    renameSync(join(path, 'layer'), join(blobs, hex));
    found.push({ digest: `sha256:${hex}`, size: size / count, file: join(blobs, hex) });
  }
  const add = (mediaType, document) => {
    const text = JSON.stringify(document);
    const hex = createHash('sha256').update(text).digest('hex');
    writeFileSync(join(blobs, hex), text);
    return { mediaType, digest: `sha256:${hex}`, size: Buffer.byteLength(text) };
  };
  const config = add('application/vnd.oci.image.config.v1+json', { os: 'linux', architecture: 'amd64' });
  const mediaType = 'application/vnd.oci.image.manifest.v1+json';
  const described = found.map(({ digest, size }) => ({
    mediaType: 'application/vnd.oci.image.layer.v1.tar',
    digest,
    size,
  }));
  const manifest = add(mediaType, { schemaVersion: 2, mediaType, config, layers: described });
  writeFileSync(join(path, 'oci-layout'), '{"imageLayoutVersion":"1.0.0"}');
  writeFileSync(join(path, 'index.json'), JSON.stringify({ schemaVersion: 2, manifests: [manifest] }));
  return found;
}

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
  execFileSync('xargs', ['-d', '\n', '-P', String(jobs), '-I', '{}', 'bash', '-eo', 'pipefail', '-c', '{}'], { input: lines.join('\n') });
  return (performance.now() - begun) / 1000;
}

const upload = (port, name, digest, source) =>
  `loc=$(curl -sS -X POST -D - -o /dev/null http://127.0.0.1:${port}/v2/${name}/blobs/uploads/ | tr -d "\\r" | sed -n "s/^[Ll]ocation: //p"); ${source} | curl -sS -f -X PUT -T - -H "Expect:" "$loc&digest=${digest}"`;

const median = (values) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)];
const seconds = (value) => `${value.toFixed(2)} s`;
const megabytes = (value) => `${Math.round(value / 1e6)} MB`;
const report = (work, yardstick, measured, ratio, goal, reached) => {
  rows.push([work, yardstick, measured, ratio, goal, reached ? 'yes' : 'no']);
  console.error(`${work}: ${measured} (${ratio})`);
};
/** One round of each in turn, so that noise meets both; answers medians, and the median of the rounds' ratios. */
async function inTurn(yardstick, measured) {
  const pairs = [];
  for (let round = 0; round < rounds; round += 1) {
    pairs.push([await yardstick(), await measured()]);
  }
  return {
    yardstick: median(pairs.map(([a]) => a)),
    measured: median(pairs.map(([, b]) => b)),
    ratio: median(pairs.map(([a, b]) => b / a)),
  };
}

try {
  const layout = join(folder, 'image');
  const blobs = writeLayout(layout, total, layers);
  const product = join(folder, 'product');
  const name = `${total / GiB >= 1 ? `${total / GiB} GiB` : `${total / MiB} MiB`} in ${layers} layers`;

  const peaks = [];
  const publish = await inTurn(
    () =>
      withRegistry(async (port) =>
        shell(
          blobs.map(
            ({ digest, file }) =>
              `loc=$(curl -sS -X POST -D - -o /dev/null http://127.0.0.1:${port}/v2/skerry/timetable/blobs/uploads/ | tr -d "\\r" | sed -n "s/^[Ll]ocation: //p"); curl -sS -f -T ${file} -H "Expect:" "$loc&digest=${digest}"`,
          ),
        ),
      ),
    () =>
      withRegistry(async (port) => {
        configure(product, layout, port, port);
        const { seconds: taken, peak } = runHod(product, ...publishArguments);
        peaks.push(peak);
        return taken;
      }),
  );
  report(
    `publish ${name}`,
    `curl PUT ${seconds(publish.yardstick)}`,
    seconds(publish.measured),
    `× ${publish.ratio.toFixed(2)}`,
    '≤ × 1.15',
    publish.ratio <= 1.15,
  );
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
    return inTurn(
      () =>
        withRegistry(async (to) =>
          shell(blobs.map(({ digest }) => upload(to, 'uat/timetable', digest, source(digest)))),
        ),
      () =>
        withRegistry(async (to) => {
          configure(product, layout, from, to);
          runHod(product, ...publishArguments);
          const { seconds: taken, peak } = runHod(product, 'promote', 'uat');
          copyPeaks.push(peak);
          return taken;
        }),
    );
  });
  report(
    'promote across registries',
    `curl GET | curl PUT ${seconds(copy.yardstick)}`,
    seconds(copy.measured),
    `× ${copy.ratio.toFixed(2)}`,
    '≤ × 1.15',
    copy.ratio <= 1.15,
  );
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
  writeLayout(large, 4 * total, 1);
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
    const { yardstick, measured, ratio } = await inTurn(
      async () => startup(['-e', '0']),
      async () => startup([hod, ...args]),
    );
    report(
      work,
      `node -e 0 ${seconds(yardstick)}`,
      seconds(measured),
      `× ${ratio.toFixed(2)}`,
      '≤ × 1.5',
      ratio <= 1.5,
    );
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
