import { execFileSync } from 'node:child_process';
import { readFile, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { sha256 } from '../../src/core/oci/digest';
import { git } from '../support/git-remote';
import { hod, hodFails, hodJson } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

const identify = (sandbox: SandboxWorld, ...args: string[]) =>
  hodJson('identify', ['identify', ...args], sandbox.world.options);
type Identified = Awaited<ReturnType<typeof identify>>;

/** Where the first commit is that was asked about. */
const reached = ({ commits: [first] }: Identified): string[] => [
  ...new Set(
    (first?.environments ?? []).map(({ environment, state, line, release }) =>
      [environment, state, line, release?.version].filter((each) => each !== null && each !== undefined).join(' '),
    ),
  ),
];

describe('what digests and texts are', () => {
  let sandbox: SandboxWorld;
  let served: { index: string; image: string; config: string; repository: string };
  const contentAt = (kind: 'manifests' | 'blobs', digest: string) =>
    fetch(`http://127.0.0.1:${sandbox.world.ports.prod}/v2/skerry/timetable/${kind}/${digest}`, {
      headers: { accept: 'application/vnd.oci.image.index.v1+json, application/vnd.oci.image.manifest.v1+json' },
    });
  const readServed = async (digest: string) => {
    const content: {
      manifests?: { digest: string }[];
      config?: { digest: string };
      layers?: { digest: string }[];
    } = JSON.parse(await (await contentAt('manifests', digest)).text());
    return content;
  };
  beforeAll(async () => {
    sandbox = await sandboxWorld();
    const { world } = sandbox;
    await world.publish('--actor', 'ci', '--branch', 'main');
    await world.promote('uat');
    await world.promote('prod');
    const [first] = (await world.status('prod')).environments[0]?.components ?? [];
    const repository = world.repository('prod', 'timetable');
    const index = first?.digest ?? '';
    const image = (await readServed(index)).manifests?.[0]?.digest ?? '';
    served = { index, image, config: (await readServed(image)).config?.digest ?? '', repository };
    await world.product.change('timetable', 'Show the winter sailings');
    await world.product.build();
    await world.publish('--next', 'minor', '--branch', 'main');
    await world.promote('uat');
    await world.promote('prod');
    await world.product.change('tide-watch', 'Read the gauge at Gull Rock');
    await world.product.build();
    await world.publish('--next', 'minor', '--branch', 'main');
    await world.promote('uat');
    await world.promote('prod');
    await world.hod('rollback', 'prod', '--reason', 'the gauge is stuck', '--actor', 'ole');
  });
  afterAll(() => sandbox.close());

  test('an index, an image, a config and a referrer lead to their component and release, in full or shortened', async () => {
    const { index, image, config, repository } = served;
    const all = await identify(sandbox, index, image, config, `${repository}@${index}`, `${repository}:2.4.0`);
    expect(all.found.map(({ is }) => is)).toEqual(['component', 'image', 'config', 'component', 'component']);
    expect(all.found.map(({ platform }) => platform)).toEqual([null, 'linux/amd64', 'linux/amd64', null, null]);
    for (const { components, environments } of all.found) {
      expect(components).toMatchObject([
        { component: 'timetable', digest: index, count: 1, releases: [{ version: '2.4.0' }] },
      ]);
      expect(components[0]?.releases[0]).toMatchObject({ branch: 'main', by: 'ci' });
      expect(
        environments.map(({ state, releasesBehind, commitsBehind }) => [state, releasesBehind, commitsBehind]),
      ).toEqual([
        ['behind', 2, 2],
        ['behind', 2, 2],
        ['behind', 1, 1],
      ]);
    }
    const digits = image.slice('sha256:'.length);
    for (const text of [digits.slice(0, 8), `sha256:${digits.slice(0, 12)}`, digits]) {
      expect((await identify(sandbox, text)).found).toMatchObject([{ text, is: 'image', digest: image }]);
    }
    const { referrers } = await hodJson('show', ['show', `${repository}@${index}`], sandbox.world.options);
    expect((await identify(sandbox, referrers[0]?.digest ?? '')).found).toMatchObject([
      { is: 'referrer', components: [{ component: 'timetable' }] },
    ]);
    // Its life is told by a digest, too, and what is shown says which release it is.
    const life = await hodJson('timeline', ['timeline', digits.slice(0, 10)], sandbox.world.options);
    expect(life.release?.version).toBe('2.4.0');
    // Two images are compared by digits of theirs, and a digest with what a tag leads to.
    const later = await hodJson('show', ['show', `${repository}:2.5.0`], sandbox.world.options);
    const compared = await hodJson('compare', ['compare', index.slice(7, 17), later.digest], sandbox.world.options);
    expect(compared).toMatchObject({
      from: { kind: 'image' },
      components: [{ state: 'changed', from: { digest: index } }],
    });
    await sandbox.world.fails('options-conflict', 'compare', index, 'prod');
    const shown = await hodJson('show', ['show', `${repository}:2.4.0`], sandbox.world.options);
    expect(shown.release).toMatchObject({ components: [{ component: 'timetable', releases: [{ version: '2.4.0' }] }] });
  });

  test('layers lead to every release that holds them, packed or unpacked, and registries are asked once', async () => {
    const { world } = sandbox;
    const layer = (await readServed(served.image)).layers?.[0]?.digest ?? '';
    const built: { rootfs: { diff_ids: string[] } } = JSON.parse(
      await (await contentAt('blobs', served.config)).text(),
    );
    const [diffId = ''] = built.rootfs.diff_ids;
    const ask = async (): Promise<void> => {
      const { found, lookedThrough } = await identify(sandbox, layer, diffId, layer.slice(7, 19));
      expect(lookedThrough).toMatchObject({ unread: [] });
      expect(found.length).toBe(3);
      for (const { is, components, environments } of found) {
        expect(is).toBe('layer');
        const releases = components.find(({ component }) => component === 'timetable')?.releases ?? [];
        expect(releases.map(({ version }) => version)).toContain('2.4.0');
        expect(environments.filter(({ component }) => component === 'timetable').length).toBe(3);
      }
    };
    await ask();
    // A line that was cut off is read from the registry again.
    const contents = join(world.product.folder, '.hod', 'contents.jsonl');
    await writeFile(contents, (await readFile(contents, 'utf8')).slice(0, -20));
    await ask();
    // Repositories that only the ledger names are not asked: hod.yaml says which hosts are.
    await writeFile(contents, '');
    const config = join(world.product.folder, 'hod.yaml');
    const yaml = await readFile(config, 'utf8');
    await writeFile(config, yaml.replaceAll('/skerry/', '/elsewhere/'));
    const { found, lookedThrough } = await identify(sandbox, layer);
    await writeFile(config, yaml);
    expect(found).toMatchObject([{ is: null }]);
    expect(new Set(lookedThrough?.unread.map(({ why }) => why))).toEqual(
      new Set(['hod.yaml does not name this repository; it was not asked']),
    );
    const unknown = await identify(sandbox, sha256('nowhere'));
    expect(unknown).toMatchObject({ found: [{ is: null }], lookedThrough: { unread: [] } });
    const text = join(world.folder, 'scan.txt');
    await writeFile(text, `layer ${layer}\n`);
    const said = await world.hod('identify', text);
    expect(said.stdout).toMatch(/layer of timetable/);
  });

  test('a text is what an environment serves, or every line of it that is not says why', async () => {
    const { world } = sandbox;
    const pulled = (await world.hod('status', 'prod', '--pull')).stdout.trim().split('\n');
    const text = join(world.folder, 'nodes.txt');
    const check = async (lines: readonly string[]): Promise<(string | null)[]> => {
      await writeFile(text, lines.join('\n'));
      const run = await world.hod('identify', text, '--in', 'prod', '--json');
      const { allServed, found } = JSON.parse(run.stdout) as Identified;
      expect(run.code).toBe(allServed === true ? 0 : 4);
      return found.map(({ verdict }) => verdict);
    };
    expect(await check(pulled)).toEqual(['current', 'current', 'current', 'current']);
    const withdrawn = (await world.hod('timeline', '2.6.0', '--field', 'release.commit')).stdout.trim();
    const stuck = (await hodJson('show', ['show', `${world.repository('prod', 'tide-watch')}:2.6.0`], world.options))
      .digest;
    const foreign = sha256('another');
    expect(
      await check([
        ...pulled.slice(0, 1),
        `${world.repository('prod', 'tide-watch')}@${stuck}`,
        `image: ${served.repository}@${served.index}`,
        `image: ${world.repository('dev', 'fare-tables')}:2.4.0`,
        `image: ${world.repository('prod', 'boarding-gate')}@${pulled[0]?.split('@')[1] ?? ''}`,
        'image: other.test/sidecar:1.2',
        `image: other.test/sidecar@${foreign}`,
        foreign,
        `${served.repository}:9.9.9`,
      ]),
    ).toEqual(['current', 'withdrawn', 'behind', 'elsewhere', 'elsewhere', 'foreign', 'foreign', 'unknown', 'unknown']);
    expect(withdrawn).toMatch(/^[0-9a-f]{40}$/);
    // A tag that moves proves nothing, but beside a digest of the same component.
    expect(await check([`image: ${served.repository}:latest`])).toEqual(['moving']);
    expect((await world.hod('identify', text, '--in', 'prod')).code).toBe(4);
    expect(await check([`image: ${served.repository}:latest`, ...pulled])).toEqual([
      'moving',
      ...pulled.map(() => 'current'),
    ]);
    expect((await world.hod('identify', text, '--in', 'prod')).code).toBe(0);
    expect(await check(['nothing of this kind'])).toEqual([]);
    const said = await world.hod('identify', text, '--in', 'prod');
    expect(said.stdout).toContain('No digest and no reference of an image was found.');
    expect((await world.hod('identify', text, '--markdown')).stdout).toContain('No digest');
    // What runs stands beside what is served.
    await writeFile(
      text,
      [...pulled.slice(1), `${served.repository}@${served.index}`, `other.test/sidecar@${foreign}`].join('\n'),
    );
    const run = await world.hod('status', 'prod', '--running', text, '--check');
    expect(run.code).toBe(4);
    expect(run.stdout).toMatch(/runs 2\.4\.0 behind[^]*runs this[^]*foreign {2}runs in prod: other\.test\/sidecar@/);
    const through = ['sh', '-c', `cat ${text} | "$@"`, 'sh'];
    const piped = await hod(['status', '--running', 'prod=-', '--json'], { ...world.options, through });
    expect(piped.stdout).toContain('"runsBeside":[{"text":"other.test/sidecar@');
    await world.fails('environment-unknown', 'status', '--running', text);
    await world.fails('environment-unknown', 'status', 'uat', '--running', `prod=${text}`);
    await world.fails('file-unusable', 'status', 'prod', '--running', 'no-such.txt');
    await world.fails('nothing-named', 'identify', 'no-such-thing');
    await world.fails('environment-unknown', 'identify', text, '--in', 'pord');
  });

  test('an error that names a digest says which release that is', async () => {
    const { world } = sandbox;
    await world.product.change('tide-watch', 'Read the gauge at Long Holm');
    await world.product.build();
    await world.publish('--next', 'minor', '--branch', 'main');
    const held = (await world.status('dev')).environments[0]?.components.find(
      (each) => each.component === 'tide-watch',
    );
    const digest = held?.digest ?? '';
    await fetch(`http://127.0.0.1:${world.ports.dev}/v2/skerry/tide-watch/manifests/${digest}`, { method: 'DELETE' });
    const refused = await world.hod('promote', 'uat');
    expect(refused.code).toBe(4);
    expect(refused.stderr).toContain(digest);
    expect(refused.stderr).toContain('(the digest belongs to tide-watch 2.7.0)');
    expect((await world.hod('promote', 'uat', '--json')).stdout).toContain('"release":"tide-watch 2.7.0"');
  });

  test('without a hod.yaml, release records in the registry tell which release a reference is', async () => {
    const { world } = sandbox;
    const options = { ...world.options, cwd: world.folder };
    const { index, repository } = served;
    const all = await hodJson('identify', ['identify', `${repository}:2.4.0`, `${repository}@${index}`], options);
    expect(all.products).toEqual(['skerry-line']);
    for (const { components, byRecord, digest } of all.found) {
      expect({ byRecord, digest }).toEqual({ byRecord: true, digest: index });
      expect(components).toMatchObject([{ component: 'timetable', releases: [{ version: '2.4.0', by: null }] }]);
    }
    const said = await hod(['identify', `${repository}:2.4.0`], options);
    expect(said.stdout).toMatch(/timetable 2\.4\.0\n.*published.*\n.*Anyone who can push/);
    await hodFails('image-missing', ['identify', `${repository}:9.9.9`], options);
    // A text may name any host: none is asked for it.
    await writeFile(join(world.folder, 'named.txt'), `${repository}@${index}\n`);
    await hodFails('config-missing', ['identify', 'named.txt'], options);
  });

  test('all products are asked where a pattern names them, and texts of another one are foreign to none', async () => {
    const { world } = sandbox;
    const text = join(world.folder, 'nodes.txt');
    await writeFile(text, `${served.repository}@${served.index}\n`);
    const yaml = await readFile(join(world.product.folder, 'hod.yaml'), 'utf8');
    await writeFile(
      join(world.product.folder, 'other.yaml'),
      yaml.replace('product: skerry-line', 'product: skerry-depot').replaceAll('/skerry/', '/depot/'),
    );
    const options = { ...world.options, cwd: world.product.folder };
    await hod(['publish', '-c', 'other.yaml', '--version', '1.0.0', '--branch', 'main'], options);
    const all = await hodJson('identify', ['identify', text, '-c', '*.yaml'], options);
    expect(all.products).toEqual(['skerry-line', 'skerry-depot'].filter((each) => all.products.includes(each)));
    expect(all.products.length).toBe(2);
    expect(all.found).toMatchObject([{ product: 'skerry-line', is: 'component' }]);
  });
});

test('is my commit in prod yet? merged, published, promoted, rolled back, and repeated on a line', async () => {
  const sandbox = await sandboxWorld();
  const { world } = sandbox;
  const { folder } = world.product;
  try {
    const config = await readFile(join(folder, 'hod.yaml'), 'utf8');
    await writeFile(join(folder, 'hod.yaml'), config.replace('after: uat', 'after: uat\n    gates: { sign-offs: 1 }'));
    await world.publish('--branch', 'main', '--actor', 'ci');
    await world.promote('uat');
    await world.hod('record', 'sign-off', '--for', 'prod', '--actor', 'siv');
    await world.promote('prod');
    git(folder, ['branch', 'support-2.4']);
    const commit = await world.product.change('timetable', 'Close the gate at night');
    const ask = (name = commit): Promise<Identified> => identify(sandbox, name);
    expect(reached(await ask())).toEqual(['dev not-in', 'uat not-in', 'prod not-in']);
    expect((await ask()).commits[0]).toMatchObject({ first: [], subject: 'Close the gate at night' });
    expect((await world.hod('identify')).stdout).toContain('No release contains it.');
    await world.product.change('boarding-gate', 'Open the gate at Long Holm');
    await world.product.build();
    await world.publish('--next', 'minor', '--branch', 'main', '--actor', 'ci');
    expect(reached(await ask())).toEqual(['dev in 2.5.0', 'uat not-in', 'prod not-in']);
    const life = await hodJson('timeline', ['timeline', commit.slice(0, 10)], world.options);
    expect(life.release).toMatchObject({ version: '2.5.0' });
    expect((await ask()).commits[0]?.first).toMatchObject([{ version: '2.5.0' }]);
    await world.promote('uat');
    const waits = await ask(commit.slice(0, 9));
    expect(reached(waits)).toEqual(['dev in 2.5.0', 'uat in 2.5.0', 'prod not-in']);
    expect(waits.commits[0]?.waiting).toMatchObject([{ environment: 'prod', unmet: [{ gate: 'sign-offs' }] }]);
    await world.hod('record', 'sign-off', '--for', 'prod', '--actor', 'siv');
    await world.promote('prod');
    expect(reached(await ask())).toEqual(['dev in 2.5.0', 'uat in 2.5.0', 'prod in 2.5.0']);
    await world.hod('rollback', 'prod', '--reason', 'turnstiles stay shut', '--actor', 'ole');
    const left = await ask();
    expect(reached(left)).toEqual(['dev in 2.5.0', 'uat in 2.5.0', 'prod was-in 2.5.0']);
    expect(left.commits[0]?.environments.at(-1)?.withdrawn).toMatchObject({
      by: 'ole',
      reason: 'turnstiles stay shut',
    });
    expect((await world.hod('identify', commit)).stdout).toContain('ole rolled prod back from 2.5.0');
    // The change alone is repeated on the line that prod serves.
    git(folder, ['commit', '--quiet', '--allow-empty', '-m', 'Build again']);
    const empty = git(folder, ['rev-parse', 'HEAD']).trim();
    git(folder, ['checkout', '--quiet', 'support-2.4']);
    git(folder, ['commit', '--quiet', '--allow-empty', '-m', 'Build the line again']);
    git(folder, ['cherry-pick', commit]);
    await world.product.build();
    await world.publish('--version', '2.4.1', '--branch', 'support-2.4', '--actor', 'ci');
    await world.promote('uat', '--version', '2.4.1');
    await world.hod('record', 'sign-off', '--for', 'prod', '--version', '2.4.1', '--actor', 'siv');
    await world.promote('prod', '--version', '2.4.1');
    const picked = await ask();
    expect(picked.commits[0]?.picks).toMatchObject([{ by: 'changes' }]);
    expect(reached(picked)).toEqual(['dev in 2.5.0', 'uat in 2.5.0', 'prod in 2.4.1']);
    // Commits that change nothing are not the same.
    expect((await ask(empty)).commits[0]).toMatchObject({ picks: [], first: [] });
    // Where git has the commit no more, nothing is claimed of it.
    execFileSync('git', ['clone', '--quiet', '--depth', '1', `file://${folder}`, join(world.folder, 'shallow')]);
    await writeFile(
      join(world.folder, 'shallow', 'hod.yaml'),
      (await readFile(join(folder, 'hod.yaml'), 'utf8')).concat(
        `ledger: { file: ${join(folder, '.hod', 'ledger.db')} }\n`,
      ),
    );
    const unsure = await hodJson('identify', ['identify', commit], {
      ...world.options,
      cwd: join(world.folder, 'shallow'),
    });
    expect(reached(unsure)).toEqual(['dev unknown', 'uat unknown', 'prod unknown']);
    expect(unsure.commits[0]?.incomplete).toBe(true);
  } finally {
    await sandbox.close();
  }
});
