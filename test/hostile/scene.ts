import { execFileSync, spawn, type ChildProcessWithoutNullStreams } from 'node:child_process';
import { cp, mkdir, mkdtemp, readdir, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import * as z from 'zod';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import { writeSampleLayout } from '../../src/sandbox/sample/sample-image';
import { makeAuthority, makeCertificate } from '../support/certificates';
import { hod, plainEnvironment, program, type HodRun } from '../support/hod';
import { holds, type Canary } from './canary';
import { Network, type Identity } from './network';

export const host = { dev: 'dev.registry.test', uat: 'uat.registry.test', prod: 'registry.test' } as const;
/** What is published before the attack begins. */
export const known = `${host.dev}/dev/tide-watch:1.0.0`;

const plainConfig = `product: skerry-line
images: { tide-watch: { from: out/tide-watch } }
environments:
  dev: { repository: "${host.dev}/dev/{image}", tags: { fixed: ["{version}"], moving: ["{branch}"] } }
  uat: { after: dev, repository: "${host.uat}/uat/{image}", tags: { fixed: ["{version}"], moving: [uat] } }
  prod: { after: uat, repository: "${host.prod}/prod/{image}", tags: { fixed: ["{version}"], moving: [latest] } }
`;

/** What all scenes begin with: a product of which 1.0.0 is published, certificates, and a git that tells its arguments. */
interface Template {
  readonly folder: string;
  readonly identity: Identity;
}

let template: Promise<Template> | undefined;
afterAll(async () => template && rm((await template).folder, { recursive: true, force: true }));

/** What the first build holds. */
const firstBuild = 'reads the gauges';

/** In a shell that is given the program and its interpreter as `$0` and `$1`. */
const defineHod = 'node=$0 program=$1; hod() { "$node" "$program" "$@"; }';
const argumentsFile = 'arguments.log';
const peakFile = 'peak';
/** Where the secrets of a scene are kept, that a run reads: they belong there. */
const secretsFolder = 'secrets';

async function makeTemplate(): Promise<Template> {
  const folder = await mkdtemp(join(tmpdir(), 'hod-hostile-template-'));
  await makeAuthority(folder);
  await makeCertificate(folder, 'host', ['registry.test', '*.registry.test']);
  const read = (name: string): Promise<string> => readFile(join(folder, name), 'utf8');
  const identity = { key: await read('host.key'), cert: await read('host.pem') };
  const product = join(folder, 'product');
  await mkdir(product);
  await mkdir(join(folder, 'bin'));
  await mkdir(join(folder, secretsFolder));
  const real = execFileSync('which', ['git'], { encoding: 'utf8' }).trim();
  const script = `#!/bin/sh\nprintf '%s\\n' "$*" >> "$HOD_ARGUMENTS"\nexec ${real} "$@"\n`;
  await writeFile(join(folder, 'bin', 'git'), script, { mode: 0o755 });
  const git = (...args: string[]) => execFileSync('git', args, { cwd: product, encoding: 'utf8' });
  git('init', '--quiet', '--initial-branch=main');
  git('config', 'user.email', 'una@skerry.test');
  git('config', 'user.name', 'Una');
  await writeFile(join(product, '.gitignore'), 'out/\n.hod/\nhod.yaml\n');
  git('add', '.');
  git('commit', '--quiet', '-m', 'Read the gauges');
  git('tag', 'v1.0.0');
  await build(product, firstBuild);
  await writeFile(join(product, 'hod.yaml'), plainConfig);
  const first = await Scene.on({ folder, identity });
  expect(await first.hod('publish')).toMatchObject({ code: 0 });
  await first.end();
  await cp(join(first.folder, 'product', '.hod'), join(product, '.hod'), { recursive: true });
  await cp(join(first.folder, 'registry'), join(folder, 'registry'), { recursive: true });
  await rm(first.folder, { recursive: true });
  return { folder, identity };
}

/** Builds what is checked out, for two platforms. */
async function build(product: string, what: string): Promise<void> {
  const revision = execFileSync('git', ['rev-parse', 'HEAD'], { cwd: product, encoding: 'utf8' }).trim();
  const image = { layers: [{ 'app/bin/tide-watch': what }], revision };
  await writeSampleLayout(join(product, 'out', 'tide-watch'), [
    { ...image, platform: 'linux/amd64' },
    { ...image, platform: 'linux/arm64' },
  ]);
}

/** The hex digits of the layers and manifests of a layout. */
async function contentOf(folder: string): Promise<{ layers: string[]; manifests: string[] }> {
  const shape = z.object({
    manifests: z.array(z.object({ digest: z.string() })).default([]),
    layers: z.array(z.object({ digest: z.string() })).default([]),
  });
  const read = async (file: string) => shape.parse(JSON.parse(await readFile(join(folder, file), 'utf8')));
  const hexOf = ({ digest }: { digest: string }): string => digest.slice(7);
  const roots = (await read('index.json')).manifests.map(hexOf);
  const indexes = await Promise.all(roots.map((hex) => read(join('blobs', 'sha256', hex))));
  const manifests = indexes.flatMap((index) => index.manifests.map(hexOf));
  const images = await Promise.all(manifests.map((hex) => read(join('blobs', 'sha256', hex))));
  return { manifests, layers: images.flatMap((image) => image.layers.map(hexOf)) };
}

/** A product in a folder of its own, and a network where one host or another is hostile. */
export class Scene {
  readonly canaries: Canary[] = [];
  env: Record<string, string> = {};

  private constructor(
    readonly folder: string,
    readonly network: Network,
    private readonly closeRegistry: () => Promise<void>,
  ) {}

  static async make(): Promise<Scene> {
    return Scene.on(await (template ??= makeTemplate()));
  }

  static async on({ folder: from, identity }: Template): Promise<Scene> {
    const folder = await mkdtemp(join(tmpdir(), 'hod-hostile-'));
    await cp(from, folder, { recursive: true });
    const registry = await startSandboxRegistry({ port: 0, folder: join(folder, 'registry') });
    const network = new Network(identity, registry.port);
    await network.start();
    return new Scene(folder, network, () => registry.close());
  }

  /** A path in the product. */
  in(...path: string[]): string {
    return join(this.folder, 'product', ...path);
  }

  write(path: string, content: string | Buffer): Promise<void> {
    return writeFile(this.in(path), content);
  }

  read(path: string): Promise<string> {
    return readFile(this.in(path), 'utf8');
  }

  /** A file that holds a secret. */
  async writeSecret(name: string, content: string): Promise<string> {
    const file = join(this.folder, secretsFolder, name);
    await mkdir(dirname(file), { recursive: true });
    await writeFile(file, content, { mode: 0o600 });
    return file;
  }

  /** Adds to hod.yaml, or replaces a part of it. */
  async configure(more: string, replaced?: string | RegExp): Promise<void> {
    const text = replaced === undefined ? `${plainConfig}${more}\n` : plainConfig.replace(replaced, more);
    expect(text).not.toBe(plainConfig);
    await this.write('hod.yaml', text);
  }

  /** Makes another commit, tagged v1.1.0, and its build, so that there is something to publish. */
  async nextVersion(changed = true): Promise<void> {
    const git = (...args: string[]) =>
      execFileSync('git', args, { cwd: this.in(), env: { PATH: process.env['PATH'] } });
    git('commit', '--quiet', '--allow-empty', '-m', 'Read the gauges more often');
    git('tag', 'v1.1.0');
    await build(this.in(), changed ? 'reads the gauges more often' : firstBuild);
  }

  /** Loses what the registry holds: layers, or the manifests below an index, without a word. */
  async lose(kind: 'layers' | 'manifests'): Promise<void> {
    const { layers, manifests } = await contentOf(this.in('out', 'tide-watch'));
    const gone = kind === 'layers' ? layers : manifests;
    const files = (await filesIn(join(this.folder, 'registry'))).filter((file) =>
      gone.some((hex) => file.includes(hex)),
    );
    expect(files).not.toEqual([]);
    await Promise.all(files.map((file) => rm(join(this.folder, 'registry', file))));
  }

  /** Loses the ledger, and all else that Hod keeps beside the product. */
  forget(): Promise<void> {
    return rm(this.in('.hod'), { recursive: true });
  }

  /** A secret of this scene: it is searched for in everything that the runs leave. */
  keep(canary: Canary): string {
    this.canaries.push(canary);
    return canary.value;
  }

  hod(...args: string[]): Promise<HodRun> {
    return hod(args, { cwd: this.in(), env: this.environment });
  }

  /** Runs a script of a shell in which `hod` is the built program. */
  shell(script: string): Promise<HodRun> {
    return hod([], { cwd: this.in(), env: this.environment, through: ['bash', '-c', `${defineHod}\n${script}`] });
  }

  /** Runs the program on a terminal of its own, and does not wait for it. */
  onTerminal(command: string): ChildProcessWithoutNullStreams {
    const line = `'${process.execPath}' '${program}' ${command}`;
    return spawn('script', ['-qefc', line, '/dev/null'], {
      cwd: this.in(),
      env: { ...plainEnvironment, ...this.environment, CI: '' },
    });
  }

  private get environment(): Record<string, string> {
    const proxy = `http://127.0.0.1:${this.network.port}`;
    return {
      HTTPS_PROXY: proxy,
      HTTP_PROXY: proxy,
      // The authority of this network and no others: to read those of the whole world takes a fifth of a short run.
      SSL_CERT_FILE: join(this.folder, 'ca.pem'),
      NODE_OPTIONS: `--use-openssl-ca --require ${join(__dirname, '../support/peak-memory.cjs')}`,
      HOD_PEAK_FILE: join(this.folder, peakFile),
      HOD_ARGUMENTS: join(this.folder, argumentsFile),
      PATH: `${join(this.folder, 'bin')}:${process.env['PATH'] ?? ''}`,
      XDG_CONFIG_HOME: join(this.folder, secretsFolder),
      ...this.env,
    };
  }

  /** The peak memory of the last run, in MiB. */
  async peak(): Promise<number> {
    return Number(await readFile(join(this.folder, peakFile), 'utf8').catch(() => '0')) / 1024 / 1024;
  }

  /** Tags that were written since the scene began: `host/repository:tag`. */
  tagged(): string[] {
    return this.network.arrived.flatMap(({ host: at, method, url, status }) => {
      const [, repository, tag] = /^\/v2\/(.+)\/manifests\/([^:]+)$/.exec(url) ?? [];
      return method === 'PUT' && status === 201 && tag !== undefined ? [`${at}/${repository ?? ''}:${tag}`] : [];
    });
  }

  /** Where a secret of this scene is found that does not belong there. */
  async leaks(runs: readonly HodRun[]): Promise<string[]> {
    const places: [string, string, string?][] = runs.flatMap(({ stdout, stderr }): [string, string][] => [
      ['stdout', Buffer.from(stdout).toString('latin1')],
      ['stderr', Buffer.from(stderr).toString('latin1')],
    ]);
    for (const file of await filesIn(this.folder)) {
      places.push([file, (await readFile(join(this.folder, file))).toString('latin1')]);
    }
    this.network.arrived.forEach(({ host: at, secure, method, url, text }) =>
      places.push([`${method} ${secure ? 'https' : 'http'}://${at}${url}`, text, secure ? at : `plain ${at}`]),
    );
    return this.canaries.flatMap((canary) =>
      places.flatMap(([place, text, at]) => {
        const form = at !== undefined && canary.owners.includes(at) ? undefined : holds(text, canary);
        return form === undefined ? [] : [`${canary.value} ${form} in ${place}`];
      }),
    );
  }

  async end(): Promise<void> {
    this.network.close();
    await this.closeRegistry();
  }
}

async function filesIn(folder: string): Promise<string[]> {
  const entries = await readdir(folder, { recursive: true, withFileTypes: true });
  return entries
    .filter((entry) => entry.isFile())
    .map((entry) => join(entry.parentPath, entry.name).slice(folder.length + 1))
    .filter((path) => !path.startsWith(`${secretsFolder}/`));
}
