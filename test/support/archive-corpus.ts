import { createHash } from 'node:crypto';
import { mkdir, mkdtemp, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { gunzipSync, gzipSync } from 'node:zlib';
import { z } from 'zod';
import { layerOf, pack, writeOlderArchive, writePlainLayout, type ArchivedImage, type Habits } from './archives';
import { hodJson, type HodOptions } from './hod';

const platform = { architecture: 'amd64', os: 'linux' };

/** A product whose images are build outputs of every kind, to publish to one registry. */
export class ArchiveCorpus {
  private readonly configs = new Map<string, Buffer>();
  private readonly lines: string[] = [];

  private constructor(
    readonly folder: string,
    private registry: string,
  ) {}

  /** Writes all of it. */
  static async create(port: number): Promise<ArchiveCorpus> {
    const corpus = new ArchiveCorpus(await mkdtemp(join(tmpdir(), 'hod-archives-')), `localhost:${port}`);
    const base = await layerOf('base', 'sand and salt\n'.repeat(90_000));
    const [app, other] = [await layerOf('app', 'a timetable'), await layerOf('app', 'a gauge')];
    const image = (...layers: Buffer[]): ArchivedImage => ({ config: { ...platform, created: '2026-01-01' }, layers });
    const older = corpus.older.bind(corpus);

    await older('plain', image(base, app), {}, 'plain.tar');
    await older('folder-of-files', image(app), {}, '');
    await older('with-symbolic-links', image(app, base, app, app), { links: 'symbolic' }, 'symbolic.tar');
    await older('folder-with-links', image(app, base, app), { links: 'symbolic' }, '');
    await older('with-hard-links', image(app, base, app), { links: 'hard' }, 'hard.tar');
    await older('packed', image(base, other), {}, 'packed.tar.gz');
    await older('named-tgz', image(other), {}, 'packed.tgz');
    await older('without-layers', image(), {}, 'without-layers.tar');
    await older(
      'compressed-layers',
      image(base, app),
      { config: (hex) => `sha256:${hex}`, layer: (_, hex) => `${hex}.tar.gz`, pack: (layer) => gzipSync(layer) },
      'compressed.tar',
    );
    await older(
      'as-in-a-layout',
      { ...image(base, app), entry: { RepoTags: null, LayerSources: {} } },
      { config: (hex) => `blobs/sha256/${hex}`, layer: (_, hex) => `./blobs/sha256/${hex}` },
      'as-in-a-layout.tar',
    );
    await corpus.several(image(base, app), image(base, other));
    await corpus.layout('layout-folder', image(base, app), 'layout');
    await corpus.layout('layout-packed', image(base, app), 'layout.tar.gz');
    await corpus.layout('both-kinds', image(base, other), 'both.tar', '[{"Config":"nowhere.json"}]');
    await corpus.layout('without-optional-fields', { config: platform, layers: [app] }, 'bare.tar');

    const older1 = join(corpus.folder, 'as-they-are');
    corpus.add(
      'as-they-are',
      'as-they-are',
      (await writeOlderArchive(older1, [image(base, app)]))[0],
      'compress: none',
    );
    await corpus.configure();
    return corpus;
  }

  /** Publishes to another registry from now on, with a ledger of its own. */
  async moveTo(port: number): Promise<void> {
    this.registry = `localhost:${port}`;
    await rm(join(this.folder, '.hod'), { recursive: true });
    await this.configure();
  }

  private async configure(): Promise<void> {
    const dev = `{ repository: "${this.registry}/{product}/{image}", tags: { fixed: ["{version}"] } }`;
    const lines = ['product: skerry-archives', 'images:', ...this.lines, 'environments:', `  dev: ${dev}`, ''];
    await writeFile(join(this.folder, 'hod.yaml'), lines.join('\n'));
  }

  get options(): HodOptions {
    return { cwd: this.folder, env: { XDG_CONFIG_HOME: join(this.folder, 'config') } };
  }

  /** Publishes all, checks each image with a reader that shares nothing with Hod, and answers their digests. */
  async publish(version: string): Promise<{ digests: Record<string, string>; bytesSent: number }> {
    const published = await hodJson(
      'publish',
      ['publish', '--version', version, '--commit', 'a'.repeat(40), '--branch', 'main'],
      this.options,
    );
    for (const { component, digest } of published.components) {
      await this.check(component, digest);
    }
    return {
      digests: Object.fromEntries(published.components.map(({ component, digest }) => [component, digest])),
      bytesSent: published.components.reduce((sum, { transfer }) => sum + transfer.bytesSent, 0),
    };
  }

  /** Forgets what layers became when they were compressed. */
  forget(): Promise<void> {
    return rm(join(this.folder, 'config'), { recursive: true, force: true });
  }

  remove(): Promise<void> {
    return rm(this.folder, { recursive: true });
  }

  /** The config must be the builder's, byte for byte, and each layer unpack to what that says. */
  private async check(image: string, digest: string): Promise<void> {
    const base = `http://${this.registry}/v2/skerry-archives/${image}`;
    const get = async (path: string): Promise<Buffer> => {
      const response = await fetch(`${base}/${path}`, {
        headers: { accept: 'application/vnd.oci.image.manifest.v1+json' },
      });
      return Buffer.from(await response.arrayBuffer());
    };
    const descriptor = z.object({ digest: z.string(), mediaType: z.string() });
    const manifest = z
      .object({ config: descriptor, layers: z.array(descriptor) })
      .parse(JSON.parse((await get(`manifests/${digest}`)).toString()));
    const config = await get(`blobs/${manifest.config.digest}`);
    expect({ image, config: config.toString() }).toEqual({ image, config: this.configs.get(image)?.toString() });
    const { rootfs } = z
      .object({ rootfs: z.object({ diff_ids: z.array(z.string()) }) })
      .parse(JSON.parse(config.toString()));
    const diffIds = await Promise.all(
      manifest.layers.map(async (layer) => {
        const bytes = await get(`blobs/${layer.digest}`);
        const plain = layer.mediaType.endsWith('gzip') ? gunzipSync(bytes) : bytes;
        return `sha256:${createHash('sha256').update(plain).digest('hex')}`;
      }),
    );
    expect({ image, diffIds }).toEqual({ image, diffIds: rootfs.diff_ids });
  }

  private add(name: string, from: string, config: Buffer | undefined, more = ''): void {
    this.configs.set(name, config ?? Buffer.alloc(0));
    this.lines.push(`  ${name}: { from: "${from}"${more === '' ? '' : `, ${more}`} }`);
  }

  private async older(name: string, image: ArchivedImage, habits: Habits, file: string): Promise<void> {
    const folder = join(this.folder, name);
    await mkdir(folder, { recursive: true });
    const [config] = await writeOlderArchive(folder, [image], habits);
    if (file !== '') {
      await pack(folder, join(this.folder, file));
    }
    this.add(name, file === '' ? name : file, config);
  }

  private async several(one: ArchivedImage, other: ArchivedImage): Promise<void> {
    const folder = join(this.folder, 'several');
    await mkdir(folder);
    const named = (image: ArchivedImage, ...names: string[]) => ({ ...image, entry: { RepoTags: names } });
    const configs = await writeOlderArchive(folder, [
      named(one, 'skerry.test:5000/timetable:build-7', 'timetable:latest'),
      named(other, 'skerry.test:5000/gauge:build-7'),
    ]);
    await pack(folder, join(this.folder, 'several.tar'));
    this.add('first-of-several', 'several.tar#timetable:latest', configs[0]);
    this.add('second-of-several', 'several.tar#skerry.test:5000/gauge', configs[1]);
  }

  private async layout(name: string, image: ArchivedImage, file: string, manifestJson?: string): Promise<void> {
    const folder = join(this.folder, name);
    const config = await writePlainLayout(folder, image);
    if (manifestJson !== undefined) {
      await writeFile(join(folder, 'manifest.json'), manifestJson);
    }
    if (file.includes('.')) {
      await pack(folder, join(this.folder, file));
    }
    this.add(name, file.includes('.') ? file : name, config);
  }
}
