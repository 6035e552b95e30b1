import { mkdir, mkdtemp, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { writeSampleLayout } from '../../src/sandbox/sample/sample-image';
import { hodJson, type HodOptions } from './hod';
import { readRepository } from './registry-reader';

/** Products of one repository, each with an image, that go from dev to uat in one registry, and keep their ledgers in one place. */
export class ManyProducts {
  /** What names all of them. */
  readonly all = ['-c', 'services/*/hod.yaml'];

  private constructor(
    readonly folder: string,
    readonly names: readonly string[],
    private readonly port: number,
    private readonly env: Record<string, string>,
  ) {}

  /** @param ledger `ledger:` of all; a file that they share where it is not given, and one each where it is `apart`. */
  static async create(
    port: number,
    names: readonly string[],
    { ledger = '{ file: ledger.db }', env = {} }: { ledger?: string; env?: Record<string, string> } = {},
  ): Promise<ManyProducts> {
    const products = new ManyProducts(await mkdtemp(join(tmpdir(), 'hod-many-')), names, port, env);
    const environment = (name: string, more: string) =>
      `  ${name}: { repository: "${name}.localhost:${port}/${name}/{product}/{image}", ${more} }`;
    await writeFile(
      join(products.folder, 'base.yaml'),
      [
        'environments:',
        environment('dev', 'tags: { fixed: ["{version}"], moving: [latest] }'),
        environment('uat', 'after: dev, tags: { fixed: ["{version}"], moving: [uat] }'),
        ...(ledger === 'apart' ? [] : [`ledger: ${ledger}`]),
        '',
      ].join('\n'),
    );
    for (const name of names) {
      await mkdir(join(products.folder, 'services', name), { recursive: true });
      await products.configure(name, '');
    }
    return products;
  }

  get options(): HodOptions {
    return { cwd: this.folder, env: this.env };
  }

  /** Writes the hod.yaml of a product, with more lines than all have. */
  async configure(name: string, more: string): Promise<void> {
    const text = `extends: ../../base.yaml\nproduct: ${name}\nimages: { api: { from: out } }\n${more}`;
    await writeFile(join(this.folder, 'services', name, 'hod.yaml'), text);
  }

  /** Builds and publishes 1.N.0 of every product. */
  async publish(minor: number): Promise<void> {
    const revision = minor.toString(16).padStart(40, 'a');
    for (const name of this.names) {
      await writeSampleLayout(join(this.folder, 'services', name, 'out'), [
        { platform: 'linux/amd64', revision, layers: [{ 'app/api': `${name} ${minor}` }] },
      ]);
    }
    const args = ['publish', ...this.all, '--commit', revision, '--branch', 'main', '--version', `1.${minor}.0`];
    await hodJson('publish-products', args, this.options);
  }

  /** The version that each product serves in uat, by the ledger, and whether its tag says the same; everything below tags is read. */
  async served(): Promise<Record<string, string | undefined>> {
    const { products } = await hodJson('status-products', ['status', 'uat', ...this.all, '--check'], this.options);
    const read = products.map(async ({ result }) => {
      const [component] = result?.environments[0]?.components ?? [];
      const { tags } = await readRepository(this.port, `uat/${result?.product ?? ''}/api`);
      const { uat, ...fixed } = tags;
      const tagged = Object.entries(fixed).find(([, digest]) => digest === uat)?.[0];
      return [
        result?.product,
        component?.version === tagged ? tagged : `${component?.version ?? 'none'} tagged ${tagged ?? 'none'}`,
      ];
    });
    return Object.fromEntries(await Promise.all(read)) as Record<string, string | undefined>;
  }

  /** The sets that each product came into uat with, or was rolled back with, in their order. */
  async sets(): Promise<(string | undefined)[][]> {
    const all: (string | undefined)[][] = [];
    for (const name of this.names) {
      const file = join(this.folder, `${name}.jsonl`);
      const config = join('services', name, 'hod.yaml');
      await hodJson('ledger-copy', ['ledger', 'export', file, '-c', config], this.options);
      const lines = (await readFile(file, 'utf8')).trimEnd().split('\n').slice(0, -1);
      const actions = lines.map(
        (line) => (JSON.parse(line) as { action: { kind: string; set?: { id: string } } }).action,
      );
      all.push(actions.filter(({ kind }) => ['promoted', 'rolled-back'].includes(kind)).map(({ set }) => set?.id));
    }
    return all;
  }

  async remove(): Promise<void> {
    await rm(this.folder, { recursive: true, force: true });
  }
}
