import { execFileSync } from 'node:child_process';
import { mkdir, mkdtemp, readFile, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { RunningServer } from '../../src/sandbox/http';
import { startSandboxRegistry } from '../../src/sandbox/registry/router';
import { layerOf, writePlainLayout } from '../support/archives';
import { hod, hodFails, hodJson } from '../support/hod';

const login = { username: 'una', password: 'gulls-and-terns/42+' };
let folder: string;
let registry: RunningServer;
beforeEach(async () => {
  folder = join(await mkdtemp(join(tmpdir(), 'hod-first-')), 'piers');
  await mkdir(folder);
  registry = await startSandboxRegistry({ port: 0, strict: true, login });
});
afterEach(async () => {
  await registry.close();
  await rm(join(folder, '..'), { recursive: true });
});

test('the first hour: a login of another tool, a registry that creates no repositories, a product without versions', async () => {
  const { port } = registry;
  const host = `sandbox.localhost:${port}`;
  const home = join(folder, '..', 'home');
  const env = { HOME: home, CI: 'true', GITHUB_ACTIONS: '', SKERRY_ACCOUNT: 'skerry' };
  const options = { cwd: folder, env };
  const git = (...args: string[]) =>
    execFileSync('git', ['-C', folder, '-c', 'user.name=una', '-c', 'user.email=una@skerry.test', ...args]);
  const build = async (text: string) => {
    await rm(join(folder, 'out'), { recursive: true, force: true });
    await mkdir(join(folder, 'out'));
    await writePlainLayout(join(folder, 'out', 'gate'), {
      config: { architecture: 'amd64', os: 'linux' },
      layers: [await layerOf('app', text)],
    });
    git('commit', '--quiet', '--allow-empty', '--message', text);
  };
  const done = async (...args: string[]): Promise<string> => {
    const run = await hod(args, options);
    expect([args.join(' '), run.code, run.code === 0 ? '' : run.stderr]).toEqual([args.join(' '), 0, '']);
    return run.stdout;
  };
  git('init', '--quiet', '--initial-branch', 'main');
  await mkdir(join(home, '.docker'), { recursive: true });
  const auth = Buffer.from(`${login.username}:${login.password}`).toString('base64');
  await writeFile(join(home, '.docker', 'config.json'), JSON.stringify({ auths: { [host]: { auth } } }));
  const create = join(home, 'create.mjs');
  await writeFile(
    create,
    `const [repository] = process.argv.slice(2);
const { status } = await fetch('http://127.0.0.1:${port}/sandbox/repositories/' + repository, { method: 'PUT', headers: { authorization: 'Basic ${auth}' } });
if (status >= 300) { console.error('status ' + status); process.exit(1); }
`,
  );
  await build('The first gate');

  await done('init', '--registry', `${host}/skerry`);
  const file = join(folder, 'hod.yaml');
  const text = await readFile(file, 'utf8');
  expect(text).toContain('{ tag: latest, follows: environment }');
  // What a newcomer changes: the account that the jobs name, and the command that creates repositories.
  const own = text
    .replaceAll(`${host}/skerry/`, `${host}/{variable.account}/`)
    .replace(/^(product: .*)$/m, '$1\nvariables: { account: { env: SKERRY_ACCOUNT } }');
  await writeFile(file, `${own}registries: { "${host}": { create-repository: [node, ${create}, "{repository}"] } }\n`);
  git('add', 'hod.yaml');
  git('commit', '--quiet', '--message', 'Describe the releases');
  await build('The first gate that is released');

  expect(await done('access', 'check')).toContain('will be created');
  expect(await done('publish')).toContain('Published');
  await done('promote', 'uat');
  await done('promote', 'prod');
  const digestOf = async (environment: string, tag: string): Promise<string | null> => {
    const url = `http://127.0.0.1:${port}/v2/skerry/${environment}/gate/manifests/${tag}`;
    const accept = 'application/vnd.oci.image.manifest.v1+json';
    const { status, headers } = await fetch(url, {
      method: 'HEAD',
      headers: { authorization: `Basic ${auth}`, accept },
    });
    expect([tag, status]).toEqual([tag, 200]);
    return headers.get('docker-content-digest');
  };
  const first = await digestOf('prod', 'latest');
  expect(first).toBe(await digestOf('dev', 'main'));
  await build('The second gate');
  for (const args of [['publish'], ['promote', 'uat'], ['promote', 'prod']]) {
    await done(...args);
  }
  const second = await digestOf('prod', 'latest');
  expect(second).toBe(await digestOf('dev', 'main'));
  expect(second).not.toBe(first);
  expect((await hodJson('prove', ['prove', 'prod'], options)).environments[0]?.findings).toEqual([]);
  await done('rollback', 'prod', '--reason', 'the gate stays shut');
  expect(await digestOf('prod', 'latest')).toBe(first);

  // Where nothing would lead to the release, it does not come in.
  await writeFile(
    file,
    (await readFile(file, 'utf8')).replace(
      /tags: \{ fixed: .*moving: \[prod, .*$/m,
      'tags: { fixed: ["{version}"], moving: ["{major}.{minor}", latest] }',
    ),
  );
  await build('The third gate');
  git('commit', '--quiet', '--all', '--message', 'Versions only');
  await build('The third gate');
  await done('publish');
  await done('promote', 'uat');
  const refused = await hodFails('nothing-to-tag', ['promote', 'prod'], options);
  expect(refused.next).toContain('hod.yaml');
  expect(await digestOf('prod', 'latest')).toBe(first);
});
