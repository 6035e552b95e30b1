import { mkdtemp, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { z } from 'zod';
import { writeSampleLayout } from '../../src/sandbox/sample/sample-image';
import { hodJson, type HodOptions } from './hod';
import { readRepository } from './registry-reader';

const platforms = ['linux/amd64', 'linux/arm64', 'linux/arm/v7'] as const;

/** Three images for three platforms, without a git repository, that go from dev to uat. */
export class SmallProduct {
  readonly components = ['timetable', 'boarding-gate', 'tide-watch'] as const;

  private constructor(
    private readonly folder: string,
    private readonly ports: { readonly dev: number; readonly uat: number },
    private readonly env: Record<string, string>,
  ) {}

  /** @param ledger `ledger:` in hod.yaml; a file where it is not given. */
  static async create(
    ports: { readonly dev: number; readonly uat: number },
    ledger?: string,
    env: Record<string, string> = {},
  ): Promise<SmallProduct> {
    const product = new SmallProduct(await mkdtemp(join(tmpdir(), 'hod-small-')), ports, env);
    const { dev, uat } = ports;
    const lines = [
      'product: skerry-small',
      `images: { ${product.components.map((name) => `${name}: { from: out/${name} }`).join(', ')} }`,
      'environments:',
      `  dev: { repository: "dev.localhost:${dev}/skerry/{image}", tags: { fixed: ["{version}"], moving: [latest] } }`,
      `  uat: { after: dev, repository: "uat.localhost:${uat}/skerry/{image}", tags: { fixed: ["{version}"], moving: [uat, latest, "{major}"] } }`,
      ...(ledger === undefined ? [] : [`ledger: ${ledger}`]),
    ];
    await writeFile(join(product.folder, 'hod.yaml'), `${lines.join('\n')}\n`);
    return product;
  }

  get options(): HodOptions {
    return { cwd: this.folder, env: this.env };
  }

  /** Lets dev keep so much, and uat everything. */
  async keep(keep: string): Promise<void> {
    const file = join(this.folder, 'hod.yaml');
    const text = await readFile(file, 'utf8');
    await writeFile(file, text.replace('  dev: {', `  dev: { keep: ${keep},`));
  }

  /** Builds and publishes 1.N.0. */
  async publish(minor: number): Promise<void> {
    const revision = minor.toString(16).padStart(40, 'a');
    for (const name of this.components) {
      const built = platforms.map((platform) => {
        return { platform, revision, layers: [{ [`app/${name}`]: `${name} ${platform} ${minor}` }] };
      });
      await writeSampleLayout(join(this.folder, 'out', name), built);
    }
    const args = ['publish', '--commit', revision, '--branch', 'main', '--version', `1.${minor}.0`];
    await hodJson('publish', args, this.options);
  }

  /** The tags of each image in uat; everything below them is read and checked. */
  async tags(): Promise<Record<string, Record<string, string>>> {
    const read = async (name: string) => [name, (await readRepository(this.ports.uat, `skerry/${name}`)).tags] as const;
    return Object.fromEntries(await Promise.all(this.components.map(read)));
  }

  /** Every entry of the ledger, as `ledger export` writes them. */
  async entries(): Promise<LedgerLine[]> {
    const file = join(this.folder, 'ledger.jsonl');
    await hodJson('ledger-copy', ['ledger', 'export', file], this.options);
    const lines = (await readFile(file, 'utf8')).trimEnd().split('\n').slice(0, -1);
    return lines.map((line) => lineSchema.parse(JSON.parse(line)).action);
  }

  async remove(): Promise<void> {
    await rm(this.folder, { recursive: true, force: true });
  }
}

const lineSchema = z.object({
  action: z.object({
    kind: z.string(),
    environment: z.string(),
    version: z.string().optional(),
    arrivals: z.array(z.object({ way: z.string() })).optional(),
    served: z.array(z.object({ is: z.object({ version: z.string() }).nullable() })).optional(),
  }),
});
type LedgerLine = z.infer<typeof lineSchema>['action'];
