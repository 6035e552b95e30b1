import { cp, mkdtemp, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { LoggedRequest } from '../../src/sandbox/registry/options';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import { writeSampleLayout } from '../../src/sandbox/sample/sample-image';
import { hodJson, type HodOptions } from './hod';

const environments = ['dev', 'uat', 'prod'] as const;

/** A product of many small images without a git repository, and the registries of its three environments. */
export class ManyImages {
  readonly requests: LoggedRequest[] = [];
  private readonly servers = new Map<string, Awaited<ReturnType<typeof startSandboxRegistry>>>();
  private folder = '';

  /** @param count How many images there are: `pier-1` and so on. */
  static async create(count: number): Promise<ManyImages> {
    const product = new ManyImages(count);
    product.folder = await mkdtemp(join(tmpdir(), 'hod-many-'));
    const hosts = new Map<string, string>();
    for (const environment of environments) {
      const onRequest = (request: LoggedRequest): void => void product.requests.push(request);
      const server = await startSandboxRegistry({ port: 0, onRequest });
      product.servers.set(environment, server);
      hosts.set(environment, `${environment}.localhost:${server.port}/skerry/{image}`);
    }
    const of = (environment: string): string => `repository: "${hosts.get(environment) ?? ''}"`;
    const lines = [
      'product: skerry-piers',
      `images: { ${product.images.map((name) => `${name}: { from: out/${name}, publish-alone: true }`).join(', ')} }`,
      'environments:',
      `  dev: { ${of('dev')}, tags: { fixed: ["{version}"], moving: [main] } }`,
      `  uat: { after: dev, ${of('uat')}, tags: { fixed: ["{version}"], moving: [uat] } }`,
      `  prod: { after: uat, ${of('prod')}, tags: { fixed: ["{version}"], moving: ["{major}", latest] } }`,
    ];
    await writeFile(join(product.folder, 'hod.yaml'), `${lines.join('\n')}\n`);
    return product;
  }

  private constructor(private readonly count: number) {}

  get images(): string[] {
    return Array.from({ length: this.count }, (_, at) => `pier-${at + 1}`);
  }

  get options(): HodOptions {
    return { cwd: this.folder };
  }

  /** Publishes `1.N.0` of all images, or of some; the content of each differs by the version. */
  async publish(minor: number, images = this.images): Promise<void> {
    const revision = minor.toString(16).padStart(40, 'c');
    const made = join(this.folder, `made-${minor}`);
    await writeSampleLayout(made, [{ platform: 'linux/amd64', revision, layers: [{ 'app/pier': `pier ${minor}` }] }]);
    await Promise.all(images.map((name) => cp(made, join(this.folder, 'out', name), { recursive: true, force: true })));
    const args = ['publish', ...images, '--commit', revision, '--branch', 'main', '--version', `1.${minor}.0`];
    await hodJson('publish', args, this.options);
  }

  async promote(environment: string): Promise<void> {
    await hodJson('promote', ['promote', environment], this.options);
  }

  /** Ends the registry of an environment. */
  async end(environment: string): Promise<void> {
    await this.servers.get(environment)?.close();
    this.servers.delete(environment);
  }

  async remove(): Promise<void> {
    await Promise.all([...this.servers.values()].map((server) => server.close()));
    await rm(this.folder, { recursive: true, force: true });
  }
}
