import { spawn, spawnSync, type ChildProcess } from 'node:child_process';
import { once } from 'node:events';
import { cp, mkdtemp, readdir, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { createInterface } from 'node:readline';
import { text } from 'node:stream/consumers';
import * as z from 'zod';
import { HodError } from '../core/errors';
import { makeSampleKeys, sampleGates, type SampleKeys } from '../sandbox/sample/sample-keys';
import { sampleConfig, SampleProduct } from '../sandbox/sample/sample-product';
import { say } from './streams';
import { styleFor } from './views/style';

/** What the demo is told. */
export interface DemoOptions {
  /** Everything is made here; a new temporary folder where it is not given. */
  folder?: string | undefined;
  /** Leave the registries up until the user ends them. */
  keepRunning: boolean;
  color: boolean;
}

const firstPort = 5510;
const environmentNames = ['dev', 'uat', 'prod'] as const;
const sandboxAnswer = z.object({
  registries: z.array(z.object({ name: z.string(), registry: z.string() })),
  receiver: z.object({ url: z.url(), key: z.string() }),
});
const receivedEvents = z.array(
  z.object({ event: z.object({ sequence: z.string(), type: z.string(), subject: z.string() }), signed: z.boolean() }),
);

/** Who is told of what happens, and the variable that holds what it is signed with. */
type Receiver = z.infer<typeof sandboxAnswer>['receiver'];
const receiverKey = 'SKERRY_BOARD_KEY';

/**
 * Runs the release engineer's day on the sample product with the built program itself, and prints
 * each command and what came back. Throws where a command ends otherwise than it should.
 */
export async function runDemo(options: DemoOptions): Promise<void> {
  const folder = await demoFolder(options.folder);
  const product = new SampleProduct(join(folder, 'skerry-line'));
  const stage = new Stage(product.folder, options.color);

  stage.scene('Three registries for three environments, and a receiver of announcements, on this machine');
  const registryFolder = join(folder, 'registries');
  const { child, registries, receiver } = await startRegistries(stage, registryFolder);
  try {
    stage.secrets.set(receiverKey, receiver.key);
    await playDay(stage, product, registries, receiver);
    stage.scene('Where everything is');
    say(`The product, a git repository:  ${product.folder}`);
    say(
      `Its configuration and ledger:   ${join(product.folder, 'hod.yaml')}, ${join(product.folder, '.hod', 'ledger.db')}`,
    );
    say(`What the registries hold:       ${registryFolder}`);
    if (options.keepRunning) {
      await stayUp(stage, product.folder, registries, receiver);
    } else {
      say('\nThe registries have ended. `hod demo --keep-running` leaves them up, to go on by hand.');
    }
  } finally {
    child.kill('SIGTERM');
  }
}

type Registries = Record<(typeof environmentNames)[number], string>;

async function playDay(
  stage: Stage,
  product: SampleProduct,
  registries: Registries,
  receiver: Receiver,
): Promise<void> {
  const announce = `announce: { board: { url: "${receiver.url}", key: { env: ${receiverKey} } } }\n`;
  const keys = await makeSampleKeys(join(product.folder, '..', 'keys'));
  await product.create(`${sampleConfig(registries, sampleGates(keys))}${keys.config}${announce}`, keys.files);
  product.tag('v2.4.0');
  await product.build();
  await product.sign();

  await publishAndPromote(stage, product, registries, keys);
  await buildOutOfOrder(stage, product);
  await rollBackProduction(stage, product, keys);
  await answerQuestions(stage, product, registries);
  stage.scene('The receiver was told of every event, signed and in order');
  const events = receivedEvents.parse(await (await fetch(localOf(receiver.url))).json());
  events.forEach(({ event, signed }) => {
    say(`  ${event.sequence}  ${event.type.padEnd(16)}${event.subject.padEnd(6)}${signed ? 'signed' : 'NOT SIGNED'}`);
  });
}

async function publishAndPromote(
  stage: Stage,
  product: SampleProduct,
  registries: Registries,
  keys: SampleKeys,
): Promise<void> {
  stage.scene('The Skerry Line has been built at its tag v2.4.0: is its configuration valid?');
  stage.hod(0, 'config', 'check');
  stage.scene(
    'Publish: content goes up by digest, indexes are assembled, signatures are carried with it, and tags are written last',
  );
  stage.hod(0, 'publish');
  stage.scene('Again is safe: the same once more sends nothing and changes nothing');
  stage.hod(0, 'publish');
  stage.scene('Look: what does the registry hold?');
  stage.hod(0, 'show', `${registries.dev}/skerry/boarding-gate:2.4.0`);
  stage.scene('Assemble: images from different machines become one index, in whatever order they are named');
  const pair = ['out/timetable-arm64.tar', 'out/timetable-amd64'];
  stage.hod(0, 'assemble', `${registries.dev}/skerry/timetable-pair:2.4.0`, ...pair);
  stage.scene('Production takes only what UAT has had: this is refused (exit 3)');
  stage.hod(3, 'promote', 'prod', '--version', '2.4.0');
  stage.scene('Promote the same digests to UAT. Production has gates, and they are not met: refused (exit 3)');
  stage.hod(0, 'promote', 'uat');
  stage.hod(3, 'promote', 'prod');
  stage.scene('The tests pass in UAT, and a scan finds nothing that prod forbids: its report decides, not the job');
  await recordResults(stage, product);
  if (keys.manager === undefined) {
    stage.scene('The release manager signs off (with an SSH key, where OpenSSH is installed): that opens the gates');
  } else {
    stage.scene(
      'A name alone signs nothing off (exit 3). The release manager signs with an SSH key: that opens the gates',
    );
    stage.hod(3, 'record', 'sign-off', '--for', 'prod', '--actor', 'siv@skerry.test');
  }
  stage.hod(0, 'record', 'sign-off', '--for', 'prod', ...signedBy(keys));
  stage.hod(0, 'promote', 'prod');
}

/** How the release manager signs off: with a key, or by name where this machine makes no keys. */
function signedBy({ manager }: SampleKeys): string[] {
  return manager === undefined ? ['--actor', 'siv@skerry.test'] : ['--sign', manager];
}

async function recordResults(stage: Stage, product: SampleProduct): Promise<void> {
  stage.hod(0, 'record', 'result', 'smoke', '--passed', '--in', 'uat', '--actor', 'the pipeline');
  const report = await product.scan();
  stage.hod(0, 'record', 'result', 'scan', '--report', report, '--in', 'uat', '--actor', 'the pipeline');
}

async function buildOutOfOrder(stage: Stage, product: SampleProduct): Promise<void> {
  const released = product.head();
  await keepBuild(product, 'released');
  stage.scene(
    'A build of a branch that dev does not follow: it gets its content and its own tags, and leaves dev alone',
  );
  product.checkout('winter-fares', product.head());
  await product.change('timetable', 'Try the winter fares');
  await product.build();
  stage.hod(0, 'publish');
  product.switchTo('main');

  const older = await product.change('timetable', 'Show the winter sailings');
  await product.build();
  await keepBuild(product, 'older');
  stage.scene('A new commit is built, and somebody publishes it as 2.4.0: refused, and nothing is changed (exit 3)');
  stage.hod(3, 'publish', '--version', '2.4.0');

  await product.change('tide-watch', 'Read the gauge at Gull Rock');
  await product.build();
  stage.scene('What must be built again? And a job stages what it has built: content goes up, no tag moves');
  stage.hod(0, 'touched', '--since', 'v2.4.0');
  stage.hod(0, 'stage', 'timetable', '--from', 'out/timetable-arm64.tar', '--platform', 'linux/arm64');
  stage.scene('Another job publishes: what was staged is not sent again, and the ledger gives the next version');
  stage.hod(0, 'publish', '--next', 'minor', '--build', '1207');

  stage.scene('The build of the commit before finishes only now: it gets its own tag, and moves nothing back');
  await takeBuild(product, 'older');
  stage.hod(0, 'publish', '--commit', older, '--branch', 'main', '--next', 'minor', '--build', '1206');
  stage.scene("Last week's pipeline runs again: nothing changes");
  await takeBuild(product, 'released');
  stage.hod(0, 'publish', '--commit', released, '--branch', 'main', '--version', '2.4.0');
}

async function rollBackProduction(stage: Stage, product: SampleProduct, keys: SampleKeys): Promise<void> {
  stage.scene('Two pipelines ask for the next version at once: no version is given twice, and none is left out');
  const first = await pipeline(product, 'boarding-gate', 'Open the gate at Long Holm');
  const second = await pipeline(product, 'boarding-gate', 'Close the gate at night');
  await stage.together([first, second]);

  stage.scene('The newest goes to production, and is bad: one command takes production back');
  stage.hod(0, 'promote', 'uat');
  await recordResults(stage, product);
  stage.hod(0, 'record', 'sign-off', '--for', 'prod', ...signedBy(keys));
  stage.hod(0, 'promote', 'prod');
  stage.hod(0, 'rollback', 'prod', '--reason', 'turnstiles stay shut');
  stage.scene('A pipeline comes late, and would promote it again: refused (exit 3)');
  stage.hod(3, 'promote', 'prod');
}

async function answerQuestions(stage: Stage, product: SampleProduct, registries: Registries): Promise<void> {
  stage.scene('What does each environment serve? And is the record of all this intact, and who signed it?');
  stage.hod(0, 'status');
  stage.hod(0, 'ledger', 'verify');
  stage.scene('Does production serve what was published and tested, signatures and all?');
  stage.hod(0, 'prove', 'prod');
  stage.scene('Is my commit in production yet? And which release is the digest that a node reports?');
  stage.hod(0, 'identify');
  const reported = stage.ask('status', '--field', 'environments.prod.components.timetable.digest');
  stage.hod(0, 'identify', reported);
  stage.scene(
    'A deployment file still names the release that was rolled back: CI says so (exit 3), and one command updates it',
  );
  const version = stage.ask('status', '--field', 'environments.uat.components.timetable.version');
  const file = await product.deploy(`${registries.prod}/skerry`, version);
  stage.hod(3, 'point', 'prod', file, '--check');
  stage.hod(0, 'point', 'prod', file);
  stage.scene('Where no network leads, the same release goes in a file: an image layout, with all that refers to it');
  stage.hod(0, 'pack', 'prod', '--out', 'skerry-prod.tar');
  stage.scene('Clean up: dev keeps two releases of each image. What would go, and why does the rest stay?');
  stage.hod(0, 'tidy', 'dev');
}

/** An address of the sandbox, for resolvers that do not know names below localhost. */
function localOf(url: string): string {
  const { port, pathname } = new URL(url);
  return `http://127.0.0.1:${port}${pathname}`;
}

/** Puts the build output of HEAD by. */
async function keepBuild({ folder }: SampleProduct, name: string): Promise<void> {
  await cp(join(folder, 'out'), join(folder, '.hod', 'builds', name), { recursive: true });
}

/** Brings back a build output that was put by, as if that build had ended only now. */
async function takeBuild({ folder }: SampleProduct, name: string): Promise<void> {
  await rm(join(folder, 'out'), { recursive: true });
  await cp(join(folder, '.hod', 'builds', name), join(folder, 'out'), { recursive: true });
}

/** Commits, and builds into a folder of its own. Answers the command line that publishes it. */
async function pipeline(product: SampleProduct, service: string, note: string): Promise<string[]> {
  const commit = await product.change(service, note);
  await product.build();
  const out = `out-${commit.slice(0, 7)}`;
  await cp(join(product.folder, 'out'), join(product.folder, out), { recursive: true });
  const file = `hod-${commit.slice(0, 7)}.yaml`;
  const config = await readFile(join(product.folder, 'hod.yaml'), 'utf8');
  await writeFile(join(product.folder, file), config.replaceAll('out/', `${out}/`));
  return ['publish', '--config', file, '--commit', commit, '--branch', 'main', '--next', 'patch'];
}

/** Prints what happens, and runs commands as a person would. */
class Stage {
  /** What the commands that are run find in their environment. */
  readonly secrets = new Map<string, string>();
  private readonly style;
  private count = 0;

  constructor(
    private readonly folder: string,
    private readonly color: boolean,
  ) {
    this.style = styleFor(process.stdout, { color });
  }

  /** Begins a new part, with what it shows. */
  scene(title: string): void {
    this.count += 1;
    say(`${this.count === 1 ? '' : '\n'}${this.style.strong(`${this.count}. ${title}`)}`);
  }

  /** Prints a command line as it would be typed. */
  line(args: readonly string[]): void {
    say(`\n${this.style.faint('$')} hod ${args.map(quoted).join(' ')}`);
  }

  /** Runs `hod` in the product's folder, its output going where ours goes. */
  hod(expected: number, ...args: string[]): void {
    this.line(args);
    const { status } = spawnSync(process.execPath, programArguments(args, this.color), {
      ...this.surroundings,
      stdio: ['ignore', 'inherit', 'inherit'],
    });
    this.check(args, status, expected);
  }

  /** Runs `hod` unseen. Returns what it prints. */
  ask(...args: string[]): string {
    const { status, stdout } = spawnSync(process.execPath, programArguments(args, this.color), {
      ...this.surroundings,
      encoding: 'utf8',
      stdio: ['ignore', 'pipe', 'inherit'],
    });
    this.check(args, status, 0);
    return stdout.trim();
  }

  /** Runs several commands at once, and prints what came back of each. */
  async together(lines: readonly (readonly string[])[]): Promise<void> {
    const runs = lines.map((args) => {
      this.line(args);
      const child = spawn(process.execPath, programArguments(args, this.color), {
        ...this.surroundings,
        stdio: ['ignore', 'pipe', 'pipe'],
      });
      return { args, child, said: Promise.all([text(child.stdout), text(child.stderr), once(child, 'close')]) };
    });
    for (const { args, child, said } of runs) {
      const [stdout, stderr] = await said;
      say(`\n${stdout}${stderr}`.trimEnd());
      this.check(args, child.exitCode, 0);
    }
  }

  /** Where commands run, and with which variables. */
  private get surroundings() {
    return { cwd: this.folder, env: ownEnvironment(this.secrets) };
  }

  private check(args: readonly string[], status: number | null, expected: number): void {
    if (status === expected && expected !== 0) {
      say(this.style.faint(`(exit ${expected})`));
    }
    if (status !== expected) {
      throw new HodError('defect', {
        what: 'the demo did not go as it should',
        object: `hod ${args.join(' ')}`,
        why: `it ended with exit ${status ?? 'by a signal'}, not ${expected}`,
        next: 'report it with the output above',
      });
    }
  }
}

/** An argument as it would be typed. */
function quoted(text: string): string {
  return text.includes(' ') ? `"${text}"` : text;
}

/** The demo's product is not what a CI that runs the demo is building. */
function ownEnvironment(secrets: ReadonlyMap<string, string>): NodeJS.ProcessEnv {
  const kept = ['PATH', 'HOME', 'TMPDIR', 'LANG', 'TERM', 'NO_COLOR'];
  const own = Object.entries(process.env).filter(([name]) => kept.includes(name));
  return Object.fromEntries([...own, ['USER', 'una'], ...secrets]);
}

function programArguments(args: readonly string[], color: boolean): string[] {
  return [resolve(process.argv[1] ?? ''), ...args, ...(color ? [] : ['--no-color'])];
}

async function demoFolder(wanted: string | undefined): Promise<string> {
  if (wanted === undefined) {
    return mkdtemp(join(tmpdir(), 'hod-demo-'));
  }
  const folder = resolve(wanted);
  const content = await readdir(folder).catch(() => []);
  if (content.length > 0) {
    throw new HodError('folder-in-use', {
      what: 'the demo needs a folder of its own',
      object: folder,
      why: 'it is not empty',
      next: 'name a new folder',
    });
  }
  return folder;
}

async function startRegistries(
  stage: Stage,
  folder: string,
): Promise<{ child: ChildProcess; registries: Registries; receiver: Receiver }> {
  for (const port of [firstPort, 0]) {
    const args = ['sandbox', ...environmentNames, '--receiver', '--port', String(port), '--folder', folder];
    const child = spawn(process.execPath, programArguments([...args, '--json'], false), {
      stdio: ['ignore', 'pipe', 'ignore'],
    });
    const lines = createInterface({ input: child.stdout });
    const line = await Promise.race([once(lines, 'line'), once(lines, 'close')]);
    const parsed = sandboxAnswer.safeParse(JSON.parse(String(line[0] ?? 'null')));
    if (parsed.success) {
      const { registries, receiver } = parsed.data;
      const registryOf = (name: string): string => registries.find((each) => each.name === name)?.registry ?? '';
      stage.line(args);
      registries.forEach(({ name, registry }) => say(`  ${name.padEnd(5)} ${registry}`));
      say(`  tells ${receiver.url}`);
      return {
        child,
        receiver,
        registries: { dev: registryOf('dev'), uat: registryOf('uat'), prod: registryOf('prod') },
      };
    }
  }
  throw new HodError('port-taken', {
    what: 'the registries of the demo did not start',
    next: 'run `hod sandbox` to see why',
  });
}

async function stayUp(stage: Stage, folder: string, registries: Registries, receiver: Receiver): Promise<void> {
  say('\nThe registries stay up; end them with Ctrl-C. In another terminal, for example:');
  say(`\n$ cd ${folder}`);
  say(`$ export ${receiverKey}=${receiver.key}`);
  stage.line(['status']);
  stage.line(['show', `${registries.prod}/skerry/timetable:latest`]);
  stage.line(['promote', 'uat']);
  await Promise.race([once(process, 'SIGINT'), once(process, 'SIGTERM')]);
}
