import { spawn, spawnSync, type ChildProcess } from 'node:child_process';
import { once } from 'node:events';
import { mkdtemp, readdir } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join, resolve } from 'node:path';
import { createInterface } from 'node:readline';
import * as z from 'zod';
import { HodError } from '../core/errors';
import { sampleConfig, SampleProduct } from '../sandbox/sample-product';
import { print } from './answer';
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
const sandboxAnswer = z.object({ registries: z.array(z.object({ name: z.string(), registry: z.string() })) });

/**
 * Runs the release engineer's day on the sample product with the built program itself, and prints
 * each command and what came back. Throws where a command ends otherwise than it should.
 */
export async function runDemo(options: DemoOptions): Promise<void> {
  const folder = await demoFolder(options.folder);
  const product = new SampleProduct(join(folder, 'skerry-line'));
  const stage = new Stage(product.folder, options.color);

  stage.scene('Three registries for three environments, on this machine');
  const registryFolder = join(folder, 'registries');
  const { child, registries } = await startRegistries(stage, registryFolder);
  try {
    await playDay(stage, product, registries);
    stage.scene('Where everything is');
    print(`The product, a git repository:  ${product.folder}`);
    print(
      `Its configuration and ledger:   ${join(product.folder, 'hod.yaml')}, ${join(product.folder, '.hod', 'ledger.db')}`,
    );
    print(`What the registries hold:       ${registryFolder}`);
    if (options.keepRunning) {
      await stayUp(stage, product.folder, registries);
    } else {
      print('\nThe registries have ended. `hod demo --keep-running` leaves them up, to go on by hand.');
    }
  } finally {
    child.kill('SIGTERM');
  }
}

type Registries = Record<(typeof environmentNames)[number], string>;

async function playDay(stage: Stage, product: SampleProduct, registries: Registries): Promise<void> {
  await product.create(sampleConfig(registries));
  product.tag('v2.4.0');
  await product.build();

  stage.scene('The Skerry Line has been built at its tag v2.4.0: is its configuration sound?');
  stage.hod(0, 'config', 'check');
  stage.scene('Publish: content goes up by digest, indexes are assembled, and tags are written last');
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
  stage.scene('Promote the same digests to UAT, and from there to production');
  stage.hod(0, 'promote', 'uat');
  stage.hod(0, 'promote', 'prod');

  await product.change('timetable', 'Show the winter sailings');
  await product.build();
  stage.scene(
    'A new commit is built, and somebody publishes it as 2.4.0 again: refused, and nothing is changed (exit 3)',
  );
  stage.hod(3, 'publish', '--version', '2.4.0');
  stage.scene('As what it is, the new commit is welcome; the branch tag moves on');
  stage.hod(0, 'publish');
  stage.scene('What runs where?');
  stage.hod(0, 'status');
}

/** Prints what happens, and runs commands as a person would. */
class Stage {
  private readonly style;
  private count = 0;

  constructor(
    private readonly folder: string,
    private readonly color: boolean,
  ) {
    this.style = styleFor(process.stdout, color);
  }

  /** Begins a new part, with what it shows. */
  scene(title: string): void {
    this.count += 1;
    print(`${this.count === 1 ? '' : '\n'}${this.style.strong(`${this.count}. ${title}`)}`);
  }

  /** Prints a command line as it would be typed. */
  line(args: readonly string[]): void {
    print(`\n${this.style.faint('$')} hod ${args.join(' ')}`);
  }

  /** Runs `hod` in the product's folder, its output going where ours goes. */
  hod(expected: number, ...args: string[]): void {
    this.line(args);
    const { status } = spawnSync(process.execPath, programArguments(args, this.color), {
      cwd: this.folder,
      stdio: ['ignore', 'inherit', 'inherit'],
    });
    if (status === expected && expected !== 0) {
      print(this.style.faint(`(exit ${expected})`));
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
    throw new HodError('usage', {
      what: 'the demo needs a folder of its own',
      object: folder,
      why: 'it is not empty',
      next: 'name a new folder',
    });
  }
  return folder;
}

async function startRegistries(stage: Stage, folder: string): Promise<{ child: ChildProcess; registries: Registries }> {
  for (const port of [firstPort, 0]) {
    const args = ['sandbox', ...environmentNames, '--port', String(port), '--folder', folder];
    const child = spawn(process.execPath, programArguments([...args, '--json'], false), {
      stdio: ['ignore', 'pipe', 'ignore'],
    });
    const lines = createInterface({ input: child.stdout });
    const line = await Promise.race([once(lines, 'line'), once(lines, 'close')]);
    const parsed = sandboxAnswer.safeParse(JSON.parse(String(line[0] ?? 'null')));
    if (parsed.success) {
      const registries = parsed.data.registries;
      const registryOf = (name: string): string => registries.find((each) => each.name === name)?.registry ?? '';
      stage.line(args);
      registries.forEach(({ name, registry }) => print(`  ${name.padEnd(5)} ${registry}`));
      return { child, registries: { dev: registryOf('dev'), uat: registryOf('uat'), prod: registryOf('prod') } };
    }
  }
  throw new HodError('unavailable', {
    what: 'the registries of the demo did not start',
    next: 'run `hod sandbox` to see why',
  });
}

async function stayUp(stage: Stage, folder: string, registries: Registries): Promise<void> {
  print('\nThe registries stay up; end them with Ctrl-C. In another terminal, for example:');
  print(`\n$ cd ${folder}`);
  stage.line(['status']);
  stage.line(['show', `${registries.prod}/skerry/timetable:latest`]);
  stage.line(['promote', 'uat']);
  await Promise.race([once(process, 'SIGINT'), once(process, 'SIGTERM')]);
}
