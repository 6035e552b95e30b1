import { execFileSync } from 'node:child_process';
import { cp, mkdtemp, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { ErrorCode } from '../../src/core/errors';
import type { LoggedRequest, SandboxRegistryOptions } from '../../src/sandbox/registry/options';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import type { RunningServer } from '../../src/sandbox/http';
import { sampleConfig, SampleProduct } from '../../src/sandbox/sample/sample-product';
import { hod, hodFails, hodJson, type HodOptions } from './hod';
import { readRepository, type Served } from './registry-reader';

export const environments = ['dev', 'uat', 'prod'] as const;
export type EnvironmentName = (typeof environments)[number];
export const components = ['timetable', 'boarding-gate', 'tide-watch', 'fare-tables'] as const;

type PerEnvironment<T> = Record<EnvironmentName, T>;

let template: Promise<string> | undefined;
afterAll(async () => template && rm(await template, { recursive: true }));

/** Makes the product once for all tests of a file: a commit tagged v2.4.0, and its build. */
async function makeTemplate(): Promise<string> {
  const product = new SampleProduct(await mkdtemp(join(tmpdir(), 'hod-template-')));
  await product.create(sampleConfig({ dev: 'dev.test', uat: 'uat.test', prod: 'prod.test' }));
  // What a test changes there is no change to the product.
  execFileSync('git', ['update-index', '--skip-worktree', 'hod.yaml'], { cwd: product.folder });
  product.tag('v2.4.0');
  await product.build();
  return product.folder;
}

/** The sample product in a temporary folder, and the registries that it is released to. */
export class World {
  /** Given to every run of the program. */
  env: Record<string, string> = {};

  constructor(
    readonly folder: string,
    readonly product: SampleProduct,
    readonly ports: PerEnvironment<number>,
    /** Where the tests themselves read what the registries hold. */
    readonly readPorts: PerEnvironment<number>,
  ) {}

  /** What the names of the registries end with. */
  domain = 'localhost';

  /** Makes the product, with one commit tagged v2.4.0 and built. */
  static async create(ports: PerEnvironment<number>, readPorts = ports): Promise<World> {
    const folder = await mkdtemp(join(tmpdir(), 'hod-test-'));
    const product = new SampleProduct(join(folder, 'product'));
    await cp(await (template ??= makeTemplate()), product.folder, { recursive: true });
    const world = new World(folder, product, ports, readPorts);
    await world.writeConfig(join(product.folder, 'hod.yaml'), {});
    return world;
  }

  get options(): HodOptions {
    return { cwd: this.product.folder, env: this.env };
  }

  hod(...args: string[]) {
    return hod(args, this.options);
  }

  publish(...args: string[]) {
    return hodJson('publish', ['publish', ...args], this.options);
  }

  promote(...args: string[]) {
    return hodJson('promote', ['promote', ...args], this.options);
  }

  status(...args: string[]) {
    return hodJson('status', ['status', ...args], this.options);
  }

  fails(code: ErrorCode, ...args: string[]) {
    return hodFails(code, args, this.options);
  }

  /** What an environment serves, by image. */
  async served(environment: EnvironmentName): Promise<Record<string, Served>> {
    const all: Record<string, Served> = {};
    for (const component of components) {
      all[component] = await readRepository(this.readPorts[environment], `skerry/${component}`);
    }
    return all;
  }

  /** `host/skerry/image` in an environment. */
  repository(environment: EnvironmentName, component: string): string {
    return `${this.host(environment)}/skerry/${component}`;
  }

  /** The registry of an environment. */
  host(environment: EnvironmentName): string {
    return `${environment}.${this.domain}:${this.ports[environment]}`;
  }

  /** Replaces text in hod.yaml, or in another configuration. */
  async configure(
    from: string | RegExp,
    to: string | ((found: string) => string),
    file = join(this.product.folder, 'hod.yaml'),
  ): Promise<void> {
    const before = await readFile(file, 'utf8');
    const after = typeof to === 'string' ? before.replace(from, to) : before.replace(from, to);
    expect(after).not.toBe(before);
    await writeFile(file, after);
  }

  /** Names a login for every registry in hod.yaml, and sets the variables that it is taken from. */
  async useLogin(login: { username: string; password: string }): Promise<void> {
    const credentials = 'credentials: { username: { env: SKERRY_USER }, password: { env: SKERRY_PASSWORD } }';
    const lines = Object.entries(this.ports).map(([name, port]) => `  ${name}.localhost:${port}: { ${credentials} }`);
    await this.configure(/$/, `registries:\n${lines.join('\n')}\n`);
    this.env = { SKERRY_USER: login.username, SKERRY_PASSWORD: login.password };
  }

  /** Writes the configuration of the product to another file, with some other registries. */
  async writeConfig(file: string, registries: Partial<PerEnvironment<string>>): Promise<void> {
    const { dev, uat, prod } = this.ports;
    const own = { dev: `dev.localhost:${dev}`, uat: `uat.localhost:${uat}`, prod: `prod.localhost:${prod}` };
    await writeFile(file, sampleConfig({ ...own, ...registries }));
  }

  async remove(): Promise<void> {
    await rm(this.folder, { recursive: true, force: true });
  }
}

/** A world whose registries are stand-ins in this process. */
export interface SandboxWorld {
  world: World;
  requests: PerEnvironment<LoggedRequest[]>;
  readonly close: () => Promise<void>;
}

/** Starts three stand-in registries, and makes the sample product for them. */
export async function sandboxWorld(options: Partial<SandboxRegistryOptions> = {}): Promise<SandboxWorld> {
  const requests: PerEnvironment<LoggedRequest[]> = { dev: [], uat: [], prod: [] };
  const start = (name: EnvironmentName): Promise<RunningServer> =>
    startSandboxRegistry({ port: 0, ...options, onRequest: (request) => requests[name].push(request) });
  const running = { dev: await start('dev'), uat: await start('uat'), prod: await start('prod') };
  const world = await World.create({ dev: running.dev.port, uat: running.uat.port, prod: running.prod.port });
  return {
    world,
    requests,
    close: async () => {
      await Promise.all(Object.values(running).map((each) => each.close()));
      await world.remove();
    },
  };
}
