import { once } from 'node:events';
import { chmod, readFile, stat, writeFile } from 'node:fs/promises';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import {
  startIdentityProvider,
  subjectOf,
  type IdentityProvider,
  type Job,
} from '../../src/sandbox/identity/identity-provider';
import type { SandboxRegistryOptions } from '../../src/sandbox/registry/options';
import {
  startTokenService,
  type TokenService,
  type TokenServiceOptions,
} from '../../src/sandbox/identity/token-service';
import type { ErrorCode } from '../../src/core/errors';
import { hod, hodJson, withoutProgress } from '../support/hod';
import { readPage } from '../support/play-page';
import { environments, sandboxWorld, type SandboxWorld } from '../support/world';

const password = 'gulls-and-terns/42+';
const audience = 'skerry-registries';
const job: Job = { project: 'skerry-line', branch: 'main', run: '7' };

let provider: IdentityProvider;
let tokens: TokenService;
let tokenRequests: { method: string; path: string; scopes: string[] }[];
let sandbox: SandboxWorld;
const closing: (() => Promise<unknown>)[] = [];
afterEach(async () => {
  await Promise.all(closing.splice(0).map((close) => close()));
});

/** Registries that ask for access tokens, a token service, and an identity provider that it trusts. */
async function guardedWorld(
  options: Partial<TokenServiceOptions> = {},
  registry: Partial<SandboxRegistryOptions> = {},
) {
  provider = await startIdentityProvider(0);
  tokenRequests = [];
  const all = { repository: '*', actions: ['pull', 'push'] as const };
  const rule = (branch: string, actions: readonly ('pull' | 'push')[]) => ({
    issuer: provider.issuer,
    audience,
    subject: subjectOf({ project: 'skerry-line', branch }),
    rights: [{ repository: 'skerry/*', actions }],
  });
  tokens = await startTokenService({
    port: 0,
    service: 'skerry',
    rules: [rule('main', ['pull', 'push']), rule('feature/*', ['pull'])],
    users: [{ username: 'una', password, rights: [all] }],
    onRequest: (request) => tokenRequests.push(request),
    ...options,
  });
  sandbox = await sandboxWorld({ tokens, ...registry });
  closing.push(sandbox.close, tokens.close, provider.close);
  return sandbox.world;
}

/** Names the same credentials for every registry in hod.yaml. */
async function useCredentials(text: string): Promise<void> {
  const { world } = sandbox;
  const lines = environments.map((name) => `  ${name}.localhost:${world.ports[name]}: { ${text} }`);
  await world.configure(/(registries:[^]*)?$/, `registries:\n${lines.join('\n')}\n`);
}
const jobCredentials = (token: string) =>
  `credentials: { job: { token: ${token}, audience: ${audience}, exchange: "${tokens.exchange}" } }`;

describe('access tokens', () => {
  test.each([false, true])('with a password, the service answering POST only: %s', async (postOnly) => {
    const world = await guardedWorld({ postOnly });
    await useCredentials(`credentials: { username: una, password: { env: SKERRY_PASSWORD } }`);
    world.env = { SKERRY_PASSWORD: password };
    await world.publish();
    // The least scope that will do, and one request for each however many transfers wait.
    const asked = tokenRequests
      .filter(({ method }) => !postOnly || method === 'POST')
      .map(({ scopes }) => scopes.join(' '));
    expect(new Set(asked).size).toBe(asked.length);
    expect(asked).toContain('repository:skerry/timetable:pull');
    expect(asked).toContainEqual(expect.stringContaining('repository:skerry/timetable:pull,push'));
    const count = tokenRequests.length;
    await world.publish();
    expect(tokenRequests.slice(count).every(({ scopes }) => scopes.every((scope) => scope.endsWith(':pull')))).toBe(
      true,
    );
    world.env = { SKERRY_PASSWORD: 'wrong-password' };
    await world.fails('login-refused', 'publish');
  });

  test('a mount asks for the right to read its source', async () => {
    const world = await guardedWorld();
    await world.configure(`uat.localhost:${world.ports.uat}/skerry`, `dev.localhost:${world.ports.dev}/uat`);
    await useCredentials(`credentials: { username: una, password: { env: SKERRY_PASSWORD } }`);
    world.env = { SKERRY_PASSWORD: password };
    await world.publish();
    const { components } = await world.promote('uat');
    expect(components.every(({ transfer }) => transfer.bytesSent === 0 && transfer.blobsMounted > 0)).toBe(true);
    expect(tokenRequests.map(({ scopes }) => scopes)).toContainEqual([
      'repository:skerry/timetable:pull',
      'repository:uat/timetable:pull,push',
    ]);
  });

  test('a token that is no longer taken is asked for again, in the middle of the work', async () => {
    await guardedWorld();
    await sandbox.close();
    const uses = new Map<string, number>();
    const verify: TokenService['verify'] = async (token) => {
      uses.set(token, (uses.get(token) ?? 0) + 1);
      return (uses.get(token) ?? 0) > 6 ? undefined : tokens.verify(token);
    };
    sandbox = await sandboxWorld({ tokens: { ...tokens, verify } });
    closing.push(sandbox.close);
    await useCredentials(`credentials: { username: una, password: { env: SKERRY_PASSWORD } }`);
    sandbox.world.env = { SKERRY_PASSWORD: password };
    await sandbox.world.publish();
    await sandbox.world.promote('uat');
    expect([...uses.values()].some((count) => count > 6)).toBe(true);
  });
});

describe('no secret at all: the identity of the job', () => {
  test.each(['variable', 'file', 'request'])('from a %s', async (where) => {
    const world = await guardedWorld();
    const token = await provider.issue(job, audience);
    const { url, bearer } = provider.admit(job);
    await writeFile(join(world.folder, 'token'), `${token}\n`);
    const places = {
      variable: '{ env: JOB_TOKEN }',
      file: `{ file: ${join(world.folder, 'token')} }`,
      request: '{ request: { url: JOB_URL, bearer: JOB_BEARER } }',
    };
    await useCredentials(jobCredentials(places[where as keyof typeof places]));
    world.env = { JOB_TOKEN: token, JOB_URL: url, JOB_BEARER: bearer };
    await world.publish();
    await world.promote('uat');
    expect(tokenRequests.some(({ path }) => path === '/exchange')).toBe(true);
  });

  test.each(['form', 'JSON', 'the identity in a header'])(
    'exchanges of other kinds, as the page describes them: %s',
    async (kind) => {
      const world = await guardedWorld();
      const recipe = new RegExp(`A service that takes (?:a )?${kind}:\n\n\`\`\`yaml\n([^]*?)\`\`\``);
      const [, text = ''] = recipe.exec(await readPage('docs/access.md')) ?? [];
      const indented = text
        .replace('https://tokens.test', tokens.base)
        .replace('audience: registries', `audience: ${audience}`)
        .replace(/^/gm, '      ');
      const lines = environments.map((name) => `  ${name}.localhost:${world.ports[name]}:\n${indented}`);
      await world.configure(/$/, `registries:\n${lines.join('\n')}\n`);
      const { url, bearer } = provider.admit(job);
      world.env = { JOB_TOKEN_URL: url, JOB_TOKEN_BEARER: bearer };
      await world.publish();
      await world.promote('uat');
      expect(tokenRequests.map(({ path }) => path)).toContain(`/login/${kind.split(' ').at(-1)?.toLowerCase() ?? ''}`);
      // An answer of another form is told as what it is, and not repeated.
      await world.configure(/answer: .*$/gm, 'answer: { token: not.there }');
      const problem = await world.fails('identity-refused', 'publish');
      expect(problem.why).toContain('there is no login at not.there in its answer');
      // A refusal says what the service says.
      world.env = { ...world.env, JOB_TOKEN_URL: provider.admit({ ...job, project: 'other-line' }).url };
      world.env = { ...world.env, JOB_TOKEN_BEARER: provider.admit({ ...job, project: 'other-line' }).bearer };
      expect((await world.fails('identity-without-rule', 'publish')).why).toContain('project:other-line');
    },
  );

  test('each way to be refused has its own message and remedy', async () => {
    const world = await guardedWorld();
    await useCredentials(jobCredentials('{ env: JOB_TOKEN }'));
    const stranger = await startIdentityProvider(0);
    closing.push(stranger.close);
    const refusal = async (code: ErrorCode, token: string) => {
      world.env = { JOB_TOKEN: token };
      return world.fails(code, 'publish');
    };
    const forged = (await provider.issue(job, audience)).replace(/\.[^.]{20}([^.]*)$/, `.${'A'.repeat(20)}$1`);
    const refusals = {
      'wrong audience': await refusal('identity-other-audience', await provider.issue(job, 'somebody-else')),
      'wrong project': await refusal(
        'identity-without-rule',
        await provider.issue({ ...job, project: 'other-line' }, audience),
      ),
      expired: await refusal('identity-expired', await provider.issue(job, audience, -120)),
      'unknown key': await refusal('identity-untrusted', forged),
      'not allowed': await refusal('identity-missing', ''),
    };
    const whys = Object.values(refusals).map(({ why }) => why ?? '');
    const nexts = Object.values(refusals).map(({ next }) => next ?? '');
    expect(new Set(whys).size).toBe(5);
    expect(new Set(nexts).size).toBe(5);
    expect(refusals['wrong audience'].why).toContain(
      `meant for somebody-else, and the token service expects ${audience}`,
    );
    expect(refusals['wrong project'].why).toContain('project:other-line:branch:main');
    expect(refusals.expired.why).toContain('2 min');
    // Another issuer is refused too, and so is a branch that may not write.
    expect((await refusal('identity-untrusted', await stranger.issue(job, audience))).why).toContain(stranger.issuer);
    const unknown = await refusal('identity-without-rule', await provider.issue({ ...job, branch: 'other' }, audience));
    expect(unknown.why).toContain('branch:other');
    await refusal('no-right', await provider.issue({ ...job, branch: 'feature/x' }, audience));
    world.env = { JOB_URL: `${provider.issuer}/job-token`, JOB_BEARER: 'not-this-one' };
    await useCredentials(jobCredentials('{ request: { url: JOB_URL, bearer: JOB_BEARER } }'));
    expect((await world.fails('identity-missing', 'publish')).why).toContain('403');
  });
});

describe('access check', () => {
  const check = (args: string[], code: number) =>
    hod(['access', 'check', ...args, '--json'], sandbox.world.options).then((run) => {
      expect({ code: run.code, stderr: withoutProgress(run.stderr) }).toEqual({ code, stderr: '' });
      return run;
    });

  test('tells what this identity may do, leaves nothing behind, and warns where it may do more than it needs', async () => {
    const world = await guardedWorld();
    await useCredentials(jobCredentials('{ env: JOB_TOKEN }'));
    world.env = { JOB_TOKEN: await provider.issue(job, audience) };
    await check([], 0);
    await world.publish();
    const before = sandbox.requests.prod.length;
    const table = await hod(['access', 'check', 'dev'], world.options);
    expect(table.code).toBe(0);
    expect(table.stdout).toContain(
      `more than needed  this identity can write to prod (${world.repository('prod', 'timetable')} and 3 more)`,
    );
    const written = sandbox.requests.prod.slice(before).filter(({ method }) => method !== 'GET');
    expect(written.map(({ method, status }) => [method, status])).toEqual(Array(4).fill(['PUT', 400]));
    world.env = { JOB_TOKEN: await provider.issue({ ...job, branch: 'feature/x' }, audience) };
    const denied = await check(['dev'], 5);
    expect(denied.stdout).toContain('"allowed":"no","code":"no-right"');
  });

  test('tells apart why a registry cannot be used', async () => {
    const world = await guardedWorld();
    const page = createServer((_, response) => response.writeHead(200, { 'content-type': 'text/html' }).end('<html>'));
    const plain = await listen(page);
    closing.push(async () => page.close());
    // What servers that speak TLS answer to plain HTTP.
    const secure = createServer((_, response) =>
      response.writeHead(400).end('Client sent an HTTP request to an HTTPS server.\n'),
    );
    const tls = await listen(secure);
    closing.push(async () => secure.close());
    const reasons: [string, string, number][] = [
      [`dev.localhost:${world.ports.dev}`, 'login-needed', 5],
      ['registry.invalid', 'host-unknown', 6],
      ['127.0.0.1:9', 'not-listening', 6],
      [`127.0.0.1:${tls}`, 'tls-untrusted', 6],
      [`127.0.0.1:${plain}`, 'not-a-registry', 6],
    ];
    let host = `dev.localhost:${world.ports.dev}`;
    for (const [next, reason, code] of reasons) {
      if (next !== host) {
        await world.configure(`${host}/skerry`, `${next}/skerry`);
        host = next;
      }
      const { stdout } = await check(['dev'], code);
      expect(stdout).toContain(`"code":"${reason}"`);
    }
    await world.configure(/$/, `registries: { "${host}": { tls: {} } }\n`);
    expect((await check(['dev'], 6)).stdout).toContain('"code":"tls-untrusted"');
    const expected = await world.fails('tls-untrusted', 'publish');
    expect(expected.why).toContain('speaks plain HTTP, where TLS was expected');
    expect(expected.next).toContain('`tls: false`');
  });

  test('a repository that must exist first is made once, by the configured command, and the upload goes on', async () => {
    const { world, close } = await sandboxWorld({ strict: true });
    closing.push(close);
    expect((await world.fails('no-repository', 'publish')).next).toContain('`create-repository:`');
    const command = join(world.folder, 'create.mjs');
    const base = `http://127.0.0.1:${world.ports.dev}/sandbox/repositories/`;
    await writeFile(command, `await fetch('${base}' + process.argv[2], { method: 'PUT' });\n`);
    const line = `[node, ${command}, "{repository}"]`;
    await world.configure(/$/, `registries: { "dev.localhost:${world.ports.dev}": { create-repository: ${line} } }\n`);
    const check = (...args: string[]) => hodJson('access-check', ['access', 'check', 'dev', ...args], world.options);
    const creations = ({ environments: [dev] }: Awaited<ReturnType<typeof check>>) =>
      dev?.repositories.map(({ creation, write }) => [creation, write.allowed]);
    expect(creations(await check())).toEqual(Array(4).fill(['first-upload', 'yes']));
    expect((await world.hod('stage', 'timetable')).code).toBe(0);
    expect(creations(await check('--create'))).toEqual([[null, 'yes'], ...Array(3).fill(['created', 'yes'])]);
    expect(creations(await check())).toEqual(Array(4).fill([null, 'yes']));
    expect((await check('--read')).environments[0]?.repositories.map(({ anyoneReads }) => anyoneReads)).toEqual(
      Array(4).fill(true),
    );
    await world.publish();
    await world.publish();
  });
});

describe('stored logins', () => {
  test('are kept for the user alone, used where hod.yaml names none, and never shown', async () => {
    const world = await guardedWorld();
    const home = join(world.folder, 'home');
    world.env = { XDG_CONFIG_HOME: home };
    const file = join(home, 'hod', 'logins.json');
    await world.fails('password-missing', 'access', 'store', 'dev.test', '--user', 'una');
    for (const name of environments) {
      const host = `${name}.localhost:${world.ports[name]}`;
      const run = await hod(['access', 'store', host, '--user', 'una'], { ...world.options, input: `${password}\n` });
      expect({ code: run.code, stderr: withoutProgress(run.stderr) }).toEqual({ code: 0, stderr: '' });
    }
    expect((await stat(file)).mode & 0o777).toBe(0o600);
    // One that is refused is not kept, nor one that cannot be tried.
    const dev = `dev.localhost:${world.ports.dev}`;
    const store = (host: string, text: string) =>
      hod(['access', 'store', host, '--user', 'una', '--json'], { ...world.options, input: text });
    const refused = await store(dev, 'wrong-password');
    expect(refused).toMatchObject({ code: 5, stdout: expect.stringContaining('"code":"login-refused"') });
    expect(refused.stdout).toContain('nothing was stored');
    expect((await store('127.0.0.1:1', password)).stdout).toContain('"code":"not-listening"');
    const listed = await hodJson('stored-logins', ['access', 'list'], world.options);
    expect(listed.logins).toHaveLength(3);
    expect(JSON.stringify(listed)).not.toContain(password);
    await world.publish();
    await chmod(file, 0o644);
    expect((await world.fails('logins-unsafe', 'publish')).next).toContain('chmod 600');
    await chmod(file, 0o600);
    const before = await readFile(file, 'utf8');
    await writeFile(file, '{}');
    await world.fails('logins-unreadable', 'publish');
    // Changed at the registry since: it is called what it is.
    await writeFile(file, before.replaceAll(password, 'changed-meanwhile'));
    const old = await world.fails('login-refused', 'publish');
    expect(old).toMatchObject({
      why: expect.stringContaining('refused the stored login of una'),
      next: expect.stringContaining(`hod access store ${dev} --user una`),
    });
    await writeFile(file, before);
    const dry = await hodJson(
      'stored-logins',
      ['access', 'forget', listed.logins[0]?.registry ?? '', '--dry-run'],
      world.options,
    );
    expect(dry).toMatchObject({ dryRun: true, logins: { length: 2 } });
    expect(await readFile(file, 'utf8')).toBe(before);
    await hodJson('stored-logins', ['access', 'forget', `dev.localhost:${world.ports.dev}`], world.options);
    await world.fails('login-needed', 'publish');
    await world.fails('login-not-stored', 'access', 'forget', 'dev.test');
  });

  test('or printed by a command', async () => {
    const world = await guardedWorld();
    const command = join(world.folder, 'credential.sh');
    await writeFile(command, `#!/bin/sh\necho '{"username": "una", "password": "${password}"}'\n`, { mode: 0o755 });
    await useCredentials(`credentials: { command: [${command}, "{registry}"] }`);
    await world.publish();
    await writeFile(command, `#!/bin/sh\necho '{"user": "${password}"}'\n`);
    const malformed = await world.fails('credential-malformed', 'publish');
    expect(JSON.stringify(malformed)).not.toContain(password);
    await writeFile(command, `#!/bin/sh\necho 'the vault is locked' >&2; exit 3\n`);
    expect((await world.fails('command-failed', 'publish')).why).toBe('it ended with 3: the vault is locked');
  });
});

async function listen(server: Server): Promise<number> {
  server.listen(0, '127.0.0.1');
  await once(server, 'listening');
  return (server.address() as AddressInfo).port;
}
