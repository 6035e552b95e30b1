// What all measurements share: servers, runs that are timed, and the table of what was found.
import { execFileSync, fork, spawn, spawnSync } from 'node:child_process';
import { once } from 'node:events';
import { mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { connect, createServer } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { setTimeout as delay } from 'node:timers/promises';
import { fileURLToPath } from 'node:url';

export const quick = process.argv.includes('--quick');
export const MiB = 1024 * 1024;
export const GiB = 1024 * MiB;
export const rounds = quick ? 2 : 5;
/** How many blobs move at once. */
export const jobs = 4;

export const root = fileURLToPath(new URL('..', import.meta.url));
export const hod = join(root, 'dist', 'hod.js');
export const floor = join(root, 'bench', 'floor.mjs');
/** Where everything that is measured is kept; gone at the end. */
export const folder = mkdtempSync(join(tmpdir(), 'hod-bench-'));
export const commit = '1'.repeat(40);
export const publishing = ['publish', '--commit', commit, '--version', '1.0.0', '--branch', 'main'];
export const rows = [];

/** A free port below those that the system gives away by itself, so that nothing takes it before its use. */
async function freePort() {
  for (;;) {
    const port = 20_000 + Math.floor(Math.random() * 12_000);
    const server = createServer().listen(port, '127.0.0.1');
    const free = await once(server, 'listening').then(
      () => true,
      () => false,
    );
    if (free) {
      server.close();
      await once(server, 'close');
      return port;
    }
  }
}

/** Waits until somebody listens at a port. */
async function listening(port) {
  for (;;) {
    const socket = connect(port, '127.0.0.1');
    const found = await once(socket, 'connect').then(
      () => true,
      () => false,
    );
    socket.destroy();
    if (found) {
      return;
    }
    await delay(20);
  }
}

/** Starts an empty registry server, runs work with its port, and ends it. */
export async function withRegistry(work) {
  const home = mkdtempSync(join(folder, 'registry-'));
  const port = await freePort();
  const config = {
    version: '0.1',
    log: { level: 'error', accesslog: { disabled: true } },
    storage: { filesystem: { rootdirectory: join(home, 'content') }, delete: { enabled: true } },
    http: { addr: `127.0.0.1:${port}`, relativeurls: true },
  };
  writeFileSync(join(home, 'config.yml'), JSON.stringify(config));
  const server = spawn('docker-registry', ['serve', join(home, 'config.yml')], { stdio: 'ignore' });
  await listening(port);
  return ending(server, home, () => work(port));
}

/** The same with a stand-in that takes what it is sent without looking. */
export async function withTrustingRegistry(work) {
  const home = mkdtempSync(join(folder, 'registry-'));
  const port = await freePort();
  const args = [hod, 'sandbox', '--trusting', '--folder', home, '--port', String(port)];
  const server = spawn(process.execPath, args, { stdio: 'ignore' });
  await listening(port);
  return ending(server, home, () => work(port));
}

async function ending(server, home, work) {
  try {
    return await work();
  } finally {
    server.kill();
    await once(server, 'exit');
    rmSync(home, { recursive: true, force: true });
  }
}

/** A registry seen from so far away, over TLS; runs work with its host, and a function that tells what was counted since. */
export function withDistance(target, milliseconds, work) {
  return withFar('distance.mjs', { target, milliseconds }, work);
}

/** The leanest responder that answers so late, over TLS; runs work with its host, and a function that tells of the requests since. */
export function withResponder(milliseconds, work) {
  return withFar('responder.mjs', { milliseconds, lists: true }, work);
}

async function withFar(program, given, work) {
  const ssl = (...args) => execFileSync('openssl', args, { cwd: folder, stdio: 'ignore' });
  const key = ['-newkey', 'rsa:2048', '-nodes'];
  ssl('req', '-x509', ...key, '-keyout', 'ca.key', '-out', 'ca.pem', '-subj', '/CN=Skerry Bench', '-days', '2');
  writeFileSync(join(folder, 'names'), 'subjectAltName=DNS:far.localhost\n');
  ssl('req', ...key, '-keyout', 'far.key', '-out', 'far.csr', '-subj', '/CN=far');
  const signing = ['-CA', 'ca.pem', '-CAkey', 'ca.key', '-CAcreateserial', '-days', '2', '-extfile', 'names'];
  ssl('x509', '-req', '-in', 'far.csr', ...signing, '-out', 'far.pem');
  const read = (name) => readFileSync(join(folder, name), 'utf8');
  const options = { ...given, tls: { key: read('far.key'), cert: read('far.pem') } };
  const proxy = fork(join(root, 'bench', program), [JSON.stringify(options)]);
  const [port] = await once(proxy, 'message');
  const counted = async () => {
    proxy.send('count');
    return (await once(proxy, 'message'))[0];
  };
  try {
    return await work(`far.localhost:${port}`, counted, join(folder, 'ca.pem'));
  } finally {
    proxy.disconnect();
    await once(proxy, 'exit');
  }
}

/** Writes hod.yaml for images of a folder, for two environments. */
export function configure(path, images, dev, uat, more = '') {
  mkdirSync(path, { recursive: true });
  rmSync(join(path, '.hod'), { recursive: true, force: true });
  const lines = Object.entries(images).map(([name, from]) => `  ${name}: { from: ${from} }`);
  writeFileSync(
    join(path, 'hod.yaml'),
    `product: skerry-line
images:
${lines.join('\n')}
environments:
  dev: { repository: "${dev}/skerry/{image}", tags: { fixed: ["c-{commit:12}", "{version}"], moving: ["{branch}"] } }
  uat: { after: dev, repository: "${uat}/uat/{image}", tags: { fixed: ["{version}"], moving: [uat] } }
${more}`,
  );
}

/** Runs a command line, and answers its seconds, its seconds of CPU with those of its children, and what it printed. */
export function timed(line, { cwd = folder, env = process.env, input } = {}) {
  const script = `TIMEFORMAT='%R %U %S'; time "$@"`;
  const { status, stdout, stderr } = spawnSync('bash', ['-c', script, 'bench', ...line], {
    cwd,
    env,
    input,
    encoding: 'utf8',
    maxBuffer: 64 * MiB,
  });
  if (status !== 0) {
    throw new Error(`${line.slice(0, 4).join(' ')}: ${stderr.slice(0, 2000)}`);
  }
  const [seconds, user, system] = stderr.trim().split('\n').at(-1).split(' ').map(Number);
  return { seconds, cpu: user + system, stdout };
}

/** Runs hod, and answers its document beside what {@link timed} does, and its peak memory in bytes. */
export function runHod(path, ...args) {
  const peak = join(folder, 'peak');
  const peakMemory = join(root, 'test', 'support', 'peak-memory.cjs');
  const env = { ...process.env, NODE_OPTIONS: `--require=${peakMemory}`, HOD_PEAK_FILE: peak };
  const found = timed([process.execPath, hod, ...args, '--json', '--jobs', String(jobs)], { cwd: path, env });
  return { ...found, document: JSON.parse(found.stdout), peak: Number(readFileSync(peak, 'utf8')) };
}

/** Runs the leanest program that does the same work. */
export function runFloor(task, options) {
  return timed([process.execPath, floor, task, JSON.stringify({ jobs, ...options })]);
}

/** Runs shell lines, so many at once. */
export function shell(lines) {
  return timed(['xargs', '-d', '\n', '-P', String(jobs), '-I', '{}', 'bash', '-eo', 'pipefail', '-c', '{}'], {
    input: lines.join('\n'),
  });
}

export const median = (values) => [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)];
export const inSeconds = (value) => `${value.toFixed(2)} s`;
export const inMegabytes = (value) => `${Math.round(value / 1e6)} MB`;

/** Adds a row to the table. `reached`: undefined where there is no goal. */
export function report(work, yardstick, measured, ratio, goal, reached) {
  rows.push([work, yardstick, measured, ratio, goal, reached === undefined ? '–' : reached ? 'yes' : 'no']);
  console.error(`${work}: ${measured} beside ${yardstick} (${ratio})`);
}

/** One round of each in turn, so that noise meets all. Answers what each found, round by round. */
export async function inTurn(works, count = rounds) {
  const found = works.map(() => []);
  for (let round = 0; round < count; round += 1) {
    for (const [at, work] of works.entries()) {
      found[at].push(await work());
    }
  }
  return found;
}

/** Reports a value of each round beside that of a yardstick: medians, and the median of the ratios. */
export function compare(work, name, yardstick, measured, value, limit) {
  const own = measured.map(value);
  const others = yardstick.map(value);
  const ratio = median(own.map((each, at) => each / others[at]));
  const goal = limit === undefined ? '–' : `≤ × ${limit}`;
  const reached = limit === undefined ? undefined : ratio <= limit;
  report(work, `${name} ${inSeconds(median(others))}`, inSeconds(median(own)), `× ${ratio.toFixed(2)}`, goal, reached);
}
