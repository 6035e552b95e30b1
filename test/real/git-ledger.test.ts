import { execFileSync } from 'node:child_process';
import { chmod, cp, mkdir, readdir, readFile, rm, utimes, writeFile } from 'node:fs/promises';
import { delimiter, join } from 'node:path';
import { git, GitRemoteRepository } from '../support/git-remote';
import { hod, hodFails, hodJson, type HodOptions } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

jest.setTimeout(300_000);

const ref = 'refs/hod/skerry-line';
let sandbox: SandboxWorld;
let remote: GitRemoteRepository;
beforeEach(async () => {
  sandbox = await sandboxWorld();
  remote = new GitRemoteRepository({ partial: true });
  const { world } = sandbox;
  await world.configure(/$/, 'ledger: { git: { remote: origin } }\n');
  git(world.product.folder, ['remote', 'add', 'origin', `file://${remote.path}`]);
  git(world.product.folder, ['push', '--quiet', '--tags', 'origin', 'main']);
});
afterEach(async () => {
  await sandbox.close();
  await remote.remove();
});

/** What somebody gets who clones the product for a job: the commit, its build, and nothing of other jobs. */
async function job(name: string, ...how: string[]): Promise<HodOptions> {
  const { world } = sandbox;
  const folder = join(world.folder, name);
  git(world.folder, ['clone', '--quiet', ...how, `file://${remote.path}`, folder]);
  for (const file of ['hod.yaml', 'out']) {
    await cp(join(world.product.folder, file), join(folder, file), { recursive: true });
  }
  if (!how.includes('--bare')) {
    git(folder, ['update-index', '--skip-worktree', 'hod.yaml']);
  }
  return { cwd: folder };
}

/** Everything about a clone that Hod must leave alone. */
function stateOf(folder: string): string[] {
  return [
    git(folder, ['status', '--porcelain', '--ignored=no']),
    git(folder, ['for-each-ref']),
    git(folder, ['config', '--list', '--local']),
    git(folder, ['fsck', '--full', '--strict']),
    git(folder, ['count-objects', '--verbose']),
    git(folder, ['stash', 'list']),
  ];
}

const tagged = (of: SandboxWorld): string[] =>
  Object.values(of.requests).flatMap((requests) =>
    requests
      .filter(({ method, path }) => method === 'PUT' && /\/manifests\/(?!sha256:)/.test(path))
      .map(({ path }) => path),
  );
const uploads = (of: SandboxWorld): number =>
  Object.values(of.requests)
    .flat()
    .filter(({ method }) => !['GET', 'HEAD'].includes(method)).length;

test('jobs in clones of their own share nothing but the remote: full, shallow, of one branch, detached, bare, a work tree', async () => {
  const { world } = sandbox;
  const builder = await job('builder');
  const before = stateOf(builder.cwd);
  await hodJson('publish', ['publish'], builder);
  expect(stateOf(builder.cwd)).toEqual(before);

  const shallow = await job('shallow', '--depth=1', '--single-branch');
  expect(await hodJson('promote', ['promote', 'uat'], shallow)).toMatchObject({ version: '2.4.0' });
  const detached = await job('detached');
  git(detached.cwd, ['checkout', '--quiet', '--detach']);
  expect(await hodJson('promote', ['promote', 'prod'], detached)).toMatchObject({ version: '2.4.0' });
  const bare = await job('bare.git', '--bare');
  expect(await hodJson('ledger-verify', ['ledger', 'verify'], bare)).toMatchObject({ entries: 3 });
  git(detached.cwd, ['worktree', 'add', '--quiet', '../tree']);
  await cp(join(detached.cwd, 'hod.yaml'), join(world.folder, 'tree', 'hod.yaml'));
  const { environments } = await hodJson('status', ['status'], { cwd: join(world.folder, 'tree') });
  expect(environments.map(({ components }) => components[0]?.version)).toEqual(['2.4.0', '2.4.0', '2.4.0']);
  // Of a commit that the clone lacks, too.
  const late = await job('late', '--depth=1');
  await world.product.change('timetable', 'Show the winter sailings');
  await world.product.build();
  git(world.product.folder, ['push', '--quiet', 'origin', 'main']);
  await rm(join(late.cwd, 'out'), { recursive: true });
  await cp(join(world.product.folder, 'out'), join(late.cwd, 'out'), { recursive: true });
  const published = ['publish', '--commit', world.product.head(), '--branch', 'main', '--version', '2.5.0'];
  expect(await hodJson('publish', published, late)).toMatchObject({ version: '2.5.0' });
  // One commit for each append, each after the one before.
  expect(git(remote.path, ['rev-list', '--count', '--first-parent', ref])).toBe('4');
  expect(git(remote.path, ['fsck', '--full', '--strict', '--no-dangling'])).toBe('');
});

test('where a remote takes branches only, the ledger is a branch; what a user sets for git changes nothing', async () => {
  const { world } = sandbox;
  remote.hook('update', 'case "$1" in refs/heads/*) ;; *) echo "only branches here" >&2; exit 1;; esac');
  const refused = await world.fails('ledger-denied', 'publish');
  expect(refused).toMatchObject({
    why: expect.stringContaining('only branches here'),
    next: expect.stringContaining('refs/heads/'),
  });
  expect(tagged(sandbox)).toEqual([]);
  await world.configure('remote: origin }', 'remote: origin, ref: "refs/heads/hod/{product}" }');
  const home = join(world.folder, 'home');
  await mkdir(join(home, 'hooks'), { recursive: true });
  for (const hook of ['pre-push', 'reference-transaction', 'post-checkout', 'pre-commit', 'commit-msg']) {
    await writeFile(join(home, 'hooks', hook), '#!/bin/sh\necho "a hook of the user" >&2\nexit 1\n', { mode: 0o755 });
  }
  await writeFile(
    join(home, 'gitconfig'),
    `[commit]\n gpgSign = true\n[push]\n gpgSign = true\n default = nothing\n followTags = true\n recurseSubmodules = on-demand\n` +
      `[gpg]\n program = /bin/false\n[core]\n hooksPath = ${join(home, 'hooks')}\n[init]\n templateDir = ${home}\n` +
      `[gc]\n auto = 1\n[transfer]\n fsckObjects = true\n[fetch]\n prune = true\n[remote "origin"]\n push = +refs/heads/*:refs/heads/*\n prune = true\n mirror = true\n`,
  );
  const options = {
    cwd: world.product.folder,
    env: { GIT_CONFIG_GLOBAL: join(home, 'gitconfig') },
  };
  const before = stateOf(world.product.folder);
  await hodJson(
    'publish',
    ['publish', '--commit', world.product.head(), '--branch', 'main', '--version', '2.4.0'],
    options,
  );
  expect(stateOf(world.product.folder)).toEqual(before);
  expect(remote.at('refs/heads/hod/skerry-line')).not.toBe('');
  expect(git(remote.path, ['for-each-ref', '--format=%(refname)']).split('\n').sort()).toEqual([
    'refs/heads/hod/skerry-line',
    'refs/heads/main',
    'refs/tags/v2.4.0',
  ]);
});

describe('over HTTP', () => {
  let url: string;
  beforeEach(async () => {
    url = await remote.serve();
    git(sandbox.world.product.folder, ['remote', 'set-url', 'origin', url]);
  });

  test('who may only read is told so before anything is uploaded, and can read', async () => {
    const { world } = sandbox;
    await world.publish();
    remote.writable = false;
    const sent = uploads(sandbox);
    const denied = await world.fails('ledger-denied', 'promote', 'uat');
    expect(denied).toMatchObject({ why: 'this job may not write to the remote', object: `${ref} in origin` });
    expect(uploads(sandbox)).toBe(sent);
    expect((await world.status('dev')).environments[0]?.components[0]).toMatchObject({ version: '2.4.0' });
    const checked = await world.hod('access', 'check', '--json');
    expect(checked.code).toBe(5);
    expect(JSON.parse(checked.stdout)).toMatchObject({
      ledger: {
        ledger: `${ref} in origin`,
        read: { allowed: 'yes' },
        append: { allowed: 'no', code: 'ledger-denied' },
      },
    });
    remote.writable = true;
    expect((await world.hod('access', 'check')).stdout).toMatch(/ledger +refs\/hod\/skerry-line in origin +yes +yes/);
  });

  test('a remote that is down, or stalls, is one message; nothing is tagged; running again completes', async () => {
    const { world } = sandbox;
    const { folder } = world.product;
    const { port } = new URL(url);
    await remote.stop();
    const down = await world.fails('ledger-unavailable', 'publish');
    expect(down).toMatchObject({ why: 'the remote does not answer, or broke off; tried 4 times' });
    url = await remote.serve();
    expect(new URL(url).port).not.toBe(port);
    git(folder, ['remote', 'set-url', 'origin', url]);

    // It goes silent when the entry is on its way: content is there, and no tag.
    git(folder, ['config', 'http.lowSpeedTime', '1']);
    remote.answer = ({ method, url: path }) => method === 'POST' && path?.endsWith('/git-receive-pack') === true;
    const stalled = await world.fails('ledger-unavailable', 'publish');
    expect(stalled).toMatchObject({ object: `${ref} in origin`, why: 'the remote does not answer, or broke off' });
    expect(tagged(sandbox)).toEqual([]);
    expect(remote.at(ref)).toBe('');

    // Slow is not down.
    remote.answer = () => false;
    remote.slowness = 400;
    const again = await world.publish();
    expect(again.components.every(({ transfer }) => transfer.blobsSent === 0)).toBe(true);
    expect(remote.at(ref)).not.toBe('');
  });

  test('a login that a CI leaves in the clone is used, and shown to nobody', async () => {
    const { world } = sandbox;
    const secret = 'c2tlcnJ5OnR1cm5zdGlsZQ==';
    remote.answer = (request, response) => {
      if (request.headers.authorization === `basic ${secret}`) {
        return false;
      }
      response.writeHead(401, { 'www-authenticate': 'Basic realm="git"' }).end();
      return true;
    };
    const denied = await world.fails('ledger-denied', 'publish');
    expect(denied.why).toBe('the remote refuses this job, or nobody is logged in to it');
    git(world.product.folder, ['config', `http.${url}.extraHeader`, `AUTHORIZATION: basic ${secret}`]);
    const run = await hod(['publish', '--verbose'], {
      ...world.options,
      env: { GIT_CURL_VERBOSE: '1', GIT_TRACE: '1' },
    });
    expect(run).toMatchObject({ code: 0 });
    expect(run.stdout + run.stderr).not.toContain(secret);
  });
});

test('a reference that was lost or taken back is seen, and put back', async () => {
  const { world } = sandbox;
  await world.publish();
  const first = remote.at(ref);
  await world.promote('uat');
  const second = remote.at(ref);
  git(remote.path, ['update-ref', ref, first]);
  const rewritten = await world.fails('ledger-rewritten', 'ledger', 'verify');
  expect(rewritten.why).toBe('it stood at entry 2 when it was last seen from here, and stands at entry 1');
  remote.forget(ref);
  const tags = tagged(sandbox).length;
  expect((await world.fails('ledger-missing', 'promote', 'prod')).what).toBe('the ledger is gone');
  await world.fails('ledger-missing', 'publish');
  // A job that never saw it is told that there is none, and which one that is.
  const fresh = await hodFails('ledger-empty', ['promote', 'prod'], await job('fresh'));
  expect(fresh).toMatchObject({ object: `${ref} in origin` });
  expect(tagged(sandbox)).toHaveLength(tags);
  git(remote.path, ['update-ref', ref, second]);
  await world.promote('prod');
  // Somebody makes another history of the same length.
  remote.rewrite(ref, 'entries/00/00/03', (text) => text.replace('una', 'eve'));
  git(remote.path, [
    'update-ref',
    ref,
    git(remote.path, [
      'commit-tree',
      `${ref}^{tree}`,
      '-p',
      second,
      '-m',
      git(remote.path, ['log', '-1', '--format=%B', ref]),
    ]),
  ]);
  await world.fails('ledger-rewritten', 'status');
  await hodFails('ledger-entry-corrupt', ['ledger', 'verify'], await job('other'));
  // What is no ledger is not taken for one.
  git(remote.path, ['update-ref', ref, 'main']);
  await hodFails('ledger-corrupt', ['status'], await job('third'));
});

test('killed at every run of git in an append: the entry is there or not, nothing else is, and running again completes', async () => {
  const { world } = sandbox;
  await world.publish();
  const before = stateOf(world.product.folder);
  const bin = join(world.folder, 'bin');
  await mkdir(bin);
  const real = execFileSync('/bin/sh', ['-c', 'command -v git'], { encoding: 'utf8' }).trim();
  const count = join(world.folder, 'count');
  // Stands before git: counts what is run on the ledger, and kills whoever ran it at a certain one, before or after.
  await writeFile(
    join(bin, 'git'),
    `#!/bin/sh
case "$GIT_OBJECT_DIRECTORY" in '') exec '${real}' "$@";; esac
echo "$1" >> '${count}'
at=$(wc -l < '${count}')
[ "$KILL_BEFORE" = "$at" ] && kill -9 $PPID && exit 1
[ "$KILL_AFTER" = "$at" ] || exec '${real}' "$@"
'${real}' "$@" < /dev/stdin; kill -9 $PPID
`,
  );
  await chmod(join(bin, 'git'), 0o755);
  const env = { PATH: `${bin}${delimiter}${process.env['PATH'] ?? ''}` };
  let number = 0;
  const signOff = (kill: Record<string, string>) =>
    hod(['record', 'result', `smoke-${number}`, '--passed', '--in', 'dev'], {
      ...world.options,
      env: { ...env, ...kill },
    });
  const entries = async () => (await hodJson('ledger-verify', ['ledger', 'verify'], world.options)).entries;
  expect(await signOff({})).toMatchObject({ code: 0 });
  const runs = (await readFile(count, 'utf8')).trim().split('\n');
  expect(runs).toEqual(expect.arrayContaining(['cat-file', 'fetch', 'fast-import', 'push']));
  let killed = 0;
  for (const [at, run] of runs.entries()) {
    // What reads objects runs for as long as it is asked.
    for (const when of run === 'cat-file' ? ['KILL_BEFORE'] : ['KILL_BEFORE', 'KILL_AFTER']) {
      number += 1;
      await rm(count, { force: true });
      const known = await entries();
      const ended = await signOff({ [when]: String(at + 1) });
      killed += ended.code === null ? 1 : 0;
      expect([known, known + 1]).toContain(await entries());
      await rm(count, { force: true });
      expect(await signOff({})).toMatchObject({ code: 0 });
      expect(await entries()).toBe(known + 1);
    }
  }
  expect(killed).toBeGreaterThan(runs.length);
  expect(stateOf(world.product.folder)).toEqual(before);
  expect(git(remote.path, ['fsck', '--full', '--strict', '--no-dangling'])).toBe('');
  expect((await readdir(join(world.product.folder, '.hod', 'git'))).sort()).toEqual([
    expect.stringMatching(/\.json$/),
    'objects-1',
  ]);
});

test('what was fetched is kept for the next run, and given up for a new folder before git gets slow in it', async () => {
  const { world } = sandbox;
  await world.publish();
  const kept = (name: string) => join(world.product.folder, '.hod', 'git', name);
  const folders = async () => (await readdir(kept(''))).filter((name) => name.startsWith('objects')).sort();
  for (let pack = 0; pack <= 50; pack += 1) {
    await writeFile(join(kept('objects-1'), 'pack', `pack-${pack}.pack`), '');
  }
  expect((await world.status('dev')).environments[0]?.components[0]).toMatchObject({ version: '2.4.0' });
  expect(await folders()).toEqual(['objects-1', 'objects-2']);
  // Runs that began with it may go on for a while.
  await world.status('dev');
  expect(await folders()).toEqual(['objects-1', 'objects-2']);
  const long = new Date(Date.now() - 48 * 60 * 60 * 1000);
  await utimes(kept('objects-1'), long, long);
  await world.promote('uat');
  expect(await folders()).toEqual(['objects-2']);
  expect(git(remote.path, ['log', '--format=%s', ref])).toBe(
    'entry 2: promoted 2.4.0 in uat\nentry 1: published 2.4.0 in dev',
  );
  // Where nothing can be kept, the ledger works all the same.
  await rm(kept(''), { recursive: true });
  await writeFile(kept('').slice(0, -1), '');
  await world.promote('prod');
});

test('a ledger moves from a file to git and back, each in one command', async () => {
  const { world } = sandbox;
  const file = '{ file: .hod/ledger.db }';
  const inGit = '{ git: { remote: origin } }';
  await world.configure(`ledger: ${inGit}`, `ledger: ${file}`);
  await world.publish();
  await world.promote('uat');
  await world.configure(`ledger: ${file}`, `ledger: ${inGit}`);
  const move = (from: string, ...more: string[]) =>
    hodJson('ledger-copy', ['ledger', 'import', '--from', from, ...more], world.options);
  expect(await move(file, '--dry-run')).toMatchObject({ written: 2, dryRun: true });
  expect(remote.at(ref)).toBe('');
  expect(await move(file)).toMatchObject({ written: 2, present: 0, to: `${ref} in origin` });
  expect(await move(file)).toMatchObject({ written: 0, present: 2 });
  await world.promote('prod');
  await world.configure(`ledger: ${inGit}`, 'ledger: { file: .hod/other.db }');
  expect(await move(inGit)).toMatchObject({ written: 3, from: `${ref} in origin` });
  const { environments } = await world.status();
  expect(environments.map(({ components }) => components[0]?.version)).toEqual(['2.4.0', '2.4.0', '2.4.0']);
  await world.fails('ledger-empty', 'ledger', 'import', '--from', '{ file: no-such.db }');
  await world.fails('not-a-ledger', 'ledger', 'import', '--from', 'ledger.db');
  await world.fails('options-conflict', 'ledger', 'import');
  await world.configure('{ file: .hod/other.db }', '{ git: { remote: upstream } }');
  expect(await world.fails('ledger-missing', 'status')).toMatchObject({ what: 'there is no such remote' });
});
