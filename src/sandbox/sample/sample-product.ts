import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { mkdir, writeFile } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import { sampleReport } from './sample-keys';
import { attachToLayout, packLayout, writeSampleLayout, type LayerFiles, type SampleImage } from './sample-image';

/**
 * The Skerry Line, a made-up ferry operator: `timetable` (an API), `boarding-gate` (turnstiles at the
 * piers, three platforms) and `tide-watch` (gauge readings), with the bundle `fare-tables`.
 */
const services = {
  timetable: { platforms: ['linux/amd64', 'linux/arm64'], purpose: 'serves the sailings of the Skerry Line' },
  'boarding-gate': {
    platforms: ['linux/amd64', 'linux/arm64', 'linux/arm/v7'],
    purpose: 'opens the turnstiles at the piers',
  },
  'tide-watch': { platforms: ['linux/amd64', 'linux/arm64'], purpose: 'reads the tide gauges' },
} as const;

type Service = keyof typeof services;
const serviceNames: readonly Service[] = ['timetable', 'boarding-gate', 'tide-watch'];

/**
 * The configuration of the sample product, for three registries.
 *
 * @param gates What prod asks of a release, as YAML; nothing where it is not given.
 */
export function sampleConfig(registries: { dev: string; uat: string; prod: string }, gates?: string): string {
  return `# The Skerry Line: three services and the fares, published together and promoted together.
product: skerry-line

images:
  timetable:
    inputs: [services/timetable/**] # its inputs, for \`hod touched\`
    # Each platform was built on its own machine; publish makes one index of them.
    from: [out/timetable-amd64, out/timetable-arm64.tar]
    platforms: [linux/amd64, linux/arm64]
  boarding-gate:
    inputs: [services/boarding-gate/**]
    # One build wrote an index for all platforms, as a .tar.
    from: out/boarding-gate.tar
    platforms: [linux/amd64, linux/arm64, linux/arm/v7]
  tide-watch:
    inputs: [services/tide-watch/**]
    from: out/tide-watch
    platforms: [linux/amd64, linux/arm64]

bundles:
  fare-tables: # files that ship with the images, and are released with them
    files: data/fares

environments:
  dev: # the first: publish writes here
    follows: [main, "support-*"] # builds of these branches take over, and may have versions
    repository: ${registries.dev}/skerry/{image}
    tags: { fixed: ["c-{commit:12}", "{version}"], moving: ["{branch}"] }
    keep: { releases: 2, rollbacks: 1 } # of each image; \`hod tidy dev\` says what else may go
  uat:
    after: dev
    repository: ${registries.uat}/skerry/{image}
    tags: { fixed: ["{version}"], moving: [uat] }
  prod:
    after: uat
    repository: ${registries.prod}/skerry/{image}
    tags: { fixed: ["{version}"], moving: ["{major}.{minor}", "{major}", latest] }
${gates === undefined ? '' : `    gates: ${gates}\n`}`;
}

/** The sample product in a folder of its own. */
export class SampleProduct {
  constructor(readonly folder: string) {}

  /**
   * Makes the folder a git repository with a history of several commits.
   *
   * @param files What hod.yaml names, by path.
   */
  async create(config: string, files: Readonly<Record<string, string>> = {}): Promise<void> {
    await mkdir(this.folder, { recursive: true });
    this.git('init', '--quiet', '--initial-branch=main');
    await this.write('.gitignore', 'out*/\n.hod/\nreports/\n');
    await this.write(
      'README.md',
      '# The Skerry Line\n\nFerries between the skerries, and the services that run them.\n',
    );
    this.commit('Begin the Skerry Line');
    for (const name of serviceNames) {
      await this.write(`services/${name}/PURPOSE`, `${name} ${services[name].purpose}.\n`);
      this.commit(`Add ${name}`);
    }
    await this.write('data/fares/single.csv', 'from,to,fare\nOuter Skerry,Gull Rock,4.20\nGull Rock,Long Holm,3.10\n');
    await this.write('data/fares/season.csv', 'zone,month,year\ninner,38.00,390.00\nouter,54.00,560.00\n');
    this.commit('Add the fares');
    await this.write('hod.yaml', config);
    for (const [path, text] of Object.entries(files)) {
      await this.write(path, text);
    }
    this.commit('Describe how the product is released');
  }

  /** Changes a service and commits. Answers the commit id. */
  async change(service: string, note: string): Promise<string> {
    await this.write(`services/${service}/CHANGES`, `${note}\n`);
    return this.commit(note);
  }

  /** Writes a file and commits. Answers the commit id. */
  async edit(path: string, text: string): Promise<string> {
    await this.write(path, text);
    return this.commit(`Edit ${path}`);
  }

  /** Begins a branch at a commit and checks it out. */
  checkout(branch: string, commit: string): void {
    this.git('checkout', '--quiet', '-b', branch, commit);
  }

  /** Goes back to a branch. */
  switchTo(branch: string): void {
    this.git('checkout', '--quiet', branch);
  }

  /** Tags HEAD. */
  tag(name: string): void {
    this.git('tag', name);
  }

  /** The commit id of HEAD. */
  head(): string {
    return this.git('rev-parse', 'HEAD');
  }

  /** Writes build outputs of HEAD into `out/`, in the three forms that builders write. */
  async build(note = ''): Promise<void> {
    const revision = this.head();
    const of = (name: Service): SampleImage[] =>
      services[name].platforms.map((platform) => ({
        platform,
        revision,
        layers: layersOf(name, platform, revision + note),
      }));
    const out = (name: string): string => join(this.folder, 'out', name);
    const [amd64, arm64] = of('timetable');
    if (amd64 === undefined || arm64 === undefined) {
      throw new Error('timetable is built for two platforms');
    }
    await writeSampleLayout(out('timetable-amd64'), [amd64]);
    await writeSampleLayout(out('timetable-arm64'), [arm64]);
    await packLayout(out('timetable-arm64'), out('timetable-arm64.tar'));
    await writeSampleLayout(out('boarding-gate'), of('boarding-gate'));
    await packLayout(out('boarding-gate'), out('boarding-gate.tar'));
    await writeSampleLayout(out('tide-watch'), of('tide-watch'));
  }

  /** Writes a signature beside the image of tide-watch, which it refers to. */
  async sign(): Promise<void> {
    await attachToLayout(
      join(this.folder, 'out', 'tide-watch'),
      'application/vnd.skerry.signature.v1',
      'the harbour master',
    );
  }

  /** Writes the report of a scan. Returns its path. */
  async scan(): Promise<string> {
    const file = join('reports', 'scan.sarif');
    await this.write(file, sampleReport(new Date()));
    return file;
  }

  /** Writes the file that says what is deployed, by a version. Returns its path. */
  async deploy(repository: string, version: string): Promise<string> {
    const file = join('deploy', 'prod.yaml');
    const containers = serviceNames.map((name) => `  - name: ${name}\n    image: ${repository}/${name}:${version}\n`);
    await this.write(file, `# What runs at the piers.\ncontainers:\n${containers.join('')}`);
    return file;
  }

  private async write(path: string, text: string): Promise<void> {
    const file = join(this.folder, path);
    await mkdir(dirname(file), { recursive: true });
    await writeFile(file, text);
  }

  private commit(message: string): string {
    this.git('add', '--all');
    this.git('commit', '--quiet', '--allow-empty', `--message=${message}`);
    return this.head();
  }

  private git(...args: string[]): string {
    const identity = { NAME: 'Una Skerry', EMAIL: 'una@skerry.test' };
    const env = { ...process.env, GIT_CONFIG_GLOBAL: '/dev/null', GIT_CONFIG_NOSYSTEM: '1' };
    for (const [key, value] of Object.entries(identity)) {
      Object.assign(env, { [`GIT_AUTHOR_${key}`]: value, [`GIT_COMMITTER_${key}`]: value });
    }
    return execFileSync('git', args, { cwd: this.folder, env, encoding: 'utf8' }).trim();
  }
}

/** A base layer that all services share on a platform, a layer of the service, and one of its data. */
function layersOf(service: Service, platform: string, build: string): LayerFiles[] {
  return [
    {
      'etc/skerry-release': 'NAME="Skerry Base"\nVERSION_ID=12\n',
      'usr/share/zoneinfo/skerry': made(`zone ${platform}`, 24_000),
      'usr/lib/libskerry.so': made(`library ${platform}`, 90_000),
    },
    {
      [`app/bin/${service}`]: made(`program ${service} ${platform} ${build}`, 60_000),
      'app/config.json': JSON.stringify({ service, platform, port: 8080 }, undefined, 2),
    },
    { [`app/data/${service}.csv`]: made(`data ${service}`, 30_000) },
  ];
}

/** Text that looks like nothing, compresses badly, and is the same each time. */
function made(seed: string, length: number): string {
  let text = '';
  for (let block = 0; text.length < length; block += 1) {
    text += createHash('sha512').update(`${seed} ${block}`).digest('base64');
  }
  return text.slice(0, length);
}
