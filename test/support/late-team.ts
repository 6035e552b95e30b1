import { join } from 'node:path';
import { cp, writeFile } from 'node:fs/promises';
import { writeSampleLayout } from '../../src/sandbox/sample/sample-image';
import { pushLayout } from './builder';
import type { EnvironmentName, World } from './world';

/** The images of a team that has released by hand so far. */
const images = ['boarding-gate', 'tide-watch'] as const;
type Image = (typeof images)[number];

/** A build: its commit, and where its outputs are kept. */
export interface KeptBuild {
  readonly commit: string;
  readonly folder: string;
}
/** The digest of each image of a build. */
export type Digests = Readonly<Record<Image, string>>;

/**
 * A team that has built, pushed and tagged by hand for a year: three environments with versions and moving tags, a `latest` that
 * somebody took back in prod, an image without labels, and builds that nobody gave a version.
 */
export class LateTeam {
  /** @param ledger The last lines of its hod.yaml: where the ledger is kept. */
  constructor(
    private readonly world: World,
    private readonly ledger: readonly string[] = [],
  ) {}

  /** Writes a hod.yaml for what is there, and makes the year. Answers the digests of its builds. */
  async live(): Promise<Record<'v240' | 'v250' | 'newest', Digests & { commit: string }>> {
    await this.describe();
    const [v240, v250, newest] = [await this.build(), await this.build({ tag: 'v2.5.0' }), await this.build({})];
    for (const build of [v240, v250, newest]) {
      await this.tag(build, 'dev', [`c-${build.commit.slice(0, 12)}`, 'main']);
    }
    await this.tag(v240, 'uat', ['2.4.0', 'uat']);
    await this.tag(v250, 'uat', ['2.5.0', 'uat']);
    const digests = {
      v240: await this.tag(v240, 'prod', ['2.4.0', '2.4', '2', 'latest']),
      v250: await this.tag(v250, 'prod', ['2.5.0', '2.5', '2', 'latest']),
      newest: await this.tag(newest, 'dev', ['main']),
    };
    // One of them was taken back by hand.
    await this.tag(v240, 'prod', ['latest'], ['tide-watch']);
    return {
      v240: { ...digests.v240, commit: v240.commit },
      v250: { ...digests.v250, commit: v250.commit },
      newest: { ...digests.newest, commit: newest.commit },
    };
  }

  /** Writes a hod.yaml that describes how the team has named its repositories and tags. */
  async describe(): Promise<void> {
    const { world } = this;
    const lines = [
      'product: skerry-line',
      `images: { ${images.map((name) => `${name}: { from: out/${name} }`).join(', ')} }`,
      'environments:',
      '  dev:',
      '    follows: [main]',
      `    repository: ${world.host('dev')}/skerry/{image}`,
      '    tags: { fixed: ["c-{commit:12}", "{version}"], moving: ["{branch}"] }',
      `  uat: { after: dev, repository: "${world.host('uat')}/skerry/{image}", tags: { fixed: ["{version}"], moving: [uat] } }`,
      '  prod:',
      '    after: uat',
      `    repository: ${world.host('prod')}/skerry/{image}`,
      '    tags: { fixed: ["{version}"], moving: ["{major}.{minor}", "{major}", latest] }',
      '    gates: { results: [smoke] }',
      ...this.ledger,
    ];
    await writeFile(join(world.product.folder, 'hod.yaml'), `${lines.join('\n')}\n`);
  }

  /**
   * Builds what is checked out; after a commit where a change is named. The gate has no labels.
   *
   * @param change `tag`: the git tag of the new commit. `foreign`: the commit that the labels of the gauge name.
   */
  async build(change?: { readonly tag?: string; readonly foreign?: string }): Promise<KeptBuild> {
    const { product, folder: world } = this.world;
    const { tag, foreign } = change ?? {};
    if (change !== undefined) {
      await product.change('tide-watch', `Read the gauge before ${tag ?? 'the next release'}`);
    }
    if (tag !== undefined) {
      product.tag(tag);
    }
    await product.build();
    const commit = product.head();
    const gate = ['linux/amd64', 'linux/arm64'].map((platform) => {
      return { platform, layers: [{ 'app/gate': `${platform} ${commit}` }] };
    });
    await writeSampleLayout(join(product.folder, 'out', 'boarding-gate'), gate);
    if (foreign !== undefined) {
      const layers = [{ 'app/gauge': commit }];
      await writeSampleLayout(join(product.folder, 'out', 'tide-watch'), [
        { platform: 'linux/amd64', layers, revision: foreign },
      ]);
    }
    const folder = join(world, `build-${commit}`);
    await cp(join(product.folder, 'out'), folder, { recursive: true });
    return { commit, folder };
  }

  /** Points tags of an environment at a build, as a script of the team does. */
  async tag(
    { folder }: KeptBuild,
    environment: EnvironmentName,
    tags: readonly string[],
    only: readonly Image[] = images,
  ): Promise<Digests> {
    const digests: Record<Image, string> = { 'boarding-gate': '', 'tide-watch': '' };
    for (const image of only) {
      for (const tag of tags) {
        const repository = `skerry/${image}`;
        digests[image] = await pushLayout(this.world.readPorts[environment], repository, join(folder, image), tag);
      }
    }
    return digests;
  }
}
