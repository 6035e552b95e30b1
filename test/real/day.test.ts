import { importPKCS8 } from 'jose';
import { once } from 'node:events';
import { mkdtemp, readFile, rm } from 'node:fs/promises';
import { createServer } from 'node:http';
import { connect, type AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { z } from 'zod';
import { startIdentityProvider, subjectOf } from '../../src/sandbox/identity/identity-provider';
import { startTokenService } from '../../src/sandbox/identity/token-service';
import { certificateBody, makeAuthority, makeCertificate } from '../support/certificates';
import { hod, hodJson, withoutProgress } from '../support/hod';
import { survivesKills } from '../support/kills';
import { startRealRegistry, type RealRegistryOptions } from '../support/real-registry';
import { livesTheWholeDay } from '../support/whole-day';
import { environments, components, World } from '../support/world';

const membersSchema = z.object({ manifests: z.array(z.object({ digest: z.string() })) });
const login = { username: 'una', password: 'gulls-and-terns' };
const closing: (() => Promise<unknown>)[] = [];
let folder: string;
beforeEach(async () => (folder = await mkdtemp(join(tmpdir(), 'hod-real-'))));
afterEach(async () => {
  await Promise.all(closing.splice(0).map((close) => close()));
  await rm(folder, { recursive: true });
});

async function startWorld(options: RealRegistryOptions = {}): Promise<World> {
  const [dev, uat, prod] = await Promise.all([
    startRealRegistry(options),
    startRealRegistry(options),
    startRealRegistry(options),
  ]);
  const world = await World.create(
    { dev: dev.port, uat: uat.port, prod: prod.port },
    { dev: dev.readPort, uat: uat.readPort, prod: prod.readPort },
  );
  closing.push(dev.close, uat.close, prod.close, () => world.remove());
  return world;
}

/** Says the same of every registry in hod.yaml. */
async function describeRegistries(world: World, text: string): Promise<void> {
  const lines = environments.map((name) => `  "${world.host(name)}": { ${text} }`);
  await world.configure(/$/, `registries:\n${lines.join('\n')}\n`);
}

test('the whole day against real registry servers', async () => {
  await livesTheWholeDay(await startWorld());
});

test('staged in parts and sealed; the tags that the server does not remove are told once, and no more come', async () => {
  const world = await startWorld();
  await world.configure('moving: ["{branch}"]', 'moving: ["{branch}", latest]');
  const staged = await hodJson('stage', ['stage', 'timetable', '--from', 'out/timetable-arm64.tar'], world.options);
  await rm(join(world.product.folder, 'out', 'timetable-arm64.tar'));
  const published = await world.publish();
  const tags = (await world.served('dev'))['timetable']?.tags ?? {};
  expect(Object.values(tags).filter((digest) => digest === published.components[0]?.digest)).toHaveLength(4);
  // This server removes no tags: not one of those that protected the parts is lost sight of.
  const protection = `hod-staged-${staged.components[0]?.digest.slice(7, 31) ?? ''}`;
  expect(tags[protection]).toBe(staged.components[0]?.digest);
  expect(published.leftovers).toEqual([`${world.repository('dev', 'timetable')}:${protection}`]);

  // From now on one tag protects all that is staged, also by jobs that stage at the same time, until it is published.
  await world.product.change('timetable', 'Show the autumn sailings');
  await world.product.build();
  const protectedParts = async (): Promise<string[]> => {
    const served = (await world.served('dev'))['timetable'];
    const index: unknown = JSON.parse(served?.manifests[served.tags['hod-staged'] ?? ''] ?? '{}');
    return membersSchema.parse(index).manifests.map(({ digest }) => digest);
  };
  const stage = async (part: string) =>
    hodJson('stage', ['stage', 'timetable', '--from', `out/timetable-${part}`], world.options);
  const parts = await Promise.all(['arm64.tar', 'amd64'].map(stage));
  expect((await protectedParts()).sort()).toEqual(
    parts.flatMap(({ components }) => components.map(({ digest }) => digest)).sort(),
  );
  expect((await world.publish()).leftovers).toEqual([]);
  expect(await protectedParts()).toEqual([]);
  const protecting = Object.keys((await world.served('dev'))['timetable']?.tags ?? {}).filter((tag) =>
    /^hod-staged/.test(tag),
  );
  expect(protecting.sort()).toEqual(['hod-staged', protection]);

  // Without the ledger, the order is known from the annotations and tags that a real server keeps.
  await rm(join(world.product.folder, '.hod'), { recursive: true });
  await world.product.change('timetable', 'Show the winter sailings');
  await world.product.build();
  const next = await world.publish('--next', 'minor');
  expect(next.version).toBe('2.5.0');
  expect(next.components[0]?.tags.map(({ tag, outcome }) => `${tag} ${outcome}`).slice(2)).toEqual([
    'main moved',
    'latest moved',
  ]);
});

test('promote and rollback, killed at any moment and run again, end as if nothing had happened', async () => {
  const [dev, uat] = await Promise.all([startRealRegistry(), startRealRegistry()]);
  closing.push(dev.close, uat.close);
  const rounds = Number(process.env['HOD_KILL_ROUNDS'] ?? 5);
  const { killed } = await survivesKills({ dev: dev.port, uat: uat.port }, rounds);
  process.stderr.write(`${killed} killed, against a real server\n`);
  expect(killed).toBeGreaterThan(rounds / 2);
});

test('with a login', async () => {
  const world = await startWorld({ login });
  await world.fails('login-needed', 'publish');
  await world.useLogin(login);
  world.env = { ...world.env, SKERRY_PASSWORD: 'wrong' };
  await world.fails('login-refused', 'publish');
  world.env = { ...world.env, SKERRY_PASSWORD: login.password };
  await livesTheWholeDay(world, 1);
});

test('with access tokens for the identity of a job', async () => {
  await makeAuthority(folder);
  await makeCertificate(folder, 'tokens', []);
  const provider = await startIdentityProvider(0);
  const audience = 'skerry-registries';
  const rights = [{ repository: 'skerry/*', actions: ['pull', 'push'] as const }];
  const subject = subjectOf({ project: 'skerry-line', branch: 'main' });
  const service = 'skerry';
  const tokens = await startTokenService({
    port: 0,
    service,
    rules: [{ issuer: provider.issuer, audience, subject, rights }],
    signing: {
      key: await importPKCS8(await readFile(join(folder, 'tokens.key'), 'utf8'), 'RS256'),
      certificates: [await certificateBody(join(folder, 'tokens.pem'))],
    },
  });
  closing.push(provider.close, tokens.close);
  const world = await startWorld({
    token: { realm: tokens.realm, service, issuer: service, rootcertbundle: join(folder, 'ca.pem') },
  });
  const job = `{ token: { request: { url: JOB_URL, bearer: JOB_BEARER } }, audience: ${audience}, exchange: "${tokens.exchange}" }`;
  await describeRegistries(world, `credentials: { job: ${job} }`);
  const admit = (branch: string) => {
    const { url, bearer } = provider.admit({ project: 'skerry-line', branch, run: '1' });
    world.env = { JOB_URL: url, JOB_BEARER: bearer };
  };
  admit('other');
  await world.fails('identity-without-rule', 'publish');
  admit('main');
  await livesTheWholeDay(world, 1);
  // Who did it is who the token service took it for, whatever the command line says.
  const signed = ['record', 'sign-off', '--for', 'prod', '--actor', 'somebody'];
  expect((await world.fails('own-sign-off', ...signed)).object).toContain(subject);
  const { events } = await hodJson('timeline', ['timeline', '--all'], world.options);
  expect(new Set(events.map(({ actor, proven }) => `${actor} ${proven}`))).toEqual(new Set([`${subject} true`]));
  expect((await world.status('dev')).environments[0]?.components.map(({ by }) => by)).toEqual(
    components.map(() => subject),
  );
  const check = await hod(['access', 'check'], world.options);
  expect({ code: check.code, stderr: withoutProgress(check.stderr) }).toEqual({ code: 0, stderr: '' });
});

test('over TLS with an authority of its own, and client certificates', async () => {
  await makeAuthority(folder);
  await makeCertificate(
    folder,
    'server',
    environments.map((name) => `${name}.localhost`),
  );
  await makeCertificate(folder, 'client', []);
  const file = (name: string) => join(folder, name);
  const tls = { certificate: file('server.pem'), key: file('server.key'), clientcas: [file('ca.pem')] };
  const world = await startWorld({ tls });
  // Nothing says that they speak TLS: each is asked, once.
  const asked = await world.hod('publish');
  expect(asked.stderr).toContain(`${world.host('dev')} speaks TLS: Hod uses HTTPS`);
  expect(asked.code).toBe(6);
  await describeRegistries(world, 'tls: {}');
  const untrusted = await world.fails('tls-untrusted', 'publish');
  expect(untrusted.next).toContain('tls: { ca: FILE }');
  const certificates = `client-certificate: ${file('client.pem')}, client-key: ${file('client.key')}`;
  await world.configure(/tls: \{\}/g, `tls: { ca: ${file('ca.pem')}, ${certificates} }`);
  await livesTheWholeDay(world);
});

test('behind a proxy', async () => {
  await makeAuthority(folder);
  await makeCertificate(
    folder,
    'server',
    environments.map((name) => `${name}.skerry.test`),
  );
  const world = await startWorld({ tls: { certificate: join(folder, 'server.pem'), key: join(folder, 'server.key') } });
  world.domain = 'skerry.test';
  await world.configure(/\.localhost:/g, '.skerry.test:');
  await describeRegistries(world, `tls: { ca: ${join(folder, 'ca.pem')} }`);
  // The names of the registries mean something to the proxy only.
  let open = true;
  const asked: string[] = [];
  const proxy = createServer().on('connect', (request, socket, head) => {
    asked.push(request.url ?? '');
    const port = /^\w+\.skerry\.test:(\d+)$/.exec(request.url ?? '')?.[1];
    if (!open || port === undefined) {
      socket.end('HTTP/1.1 403 Forbidden\r\n\r\n');
      return;
    }
    const onward = connect(Number(port), '127.0.0.1', () => {
      socket.write('HTTP/1.1 200 Connection established\r\n\r\n');
      onward.write(head);
      socket.pipe(onward).pipe(socket);
    });
    onward.on('error', () => socket.destroy());
    socket.on('error', () => onward.destroy());
  });
  proxy.listen(0, '127.0.0.1');
  await once(proxy, 'listening');
  closing.push(async () => {
    proxy.closeAllConnections();
    proxy.close();
  });
  await world.fails('host-unknown', 'publish');
  world.env = { HTTPS_PROXY: `http://127.0.0.1:${(proxy.address() as AddressInfo).port}` };
  await livesTheWholeDay(world);
  expect(asked.length).toBeGreaterThan(0);
  open = false;
  const refused = await world.fails('proxy-refused', 'publish');
  expect(refused.next).toContain('NO_PROXY');
});

test('within one real registry, content is mounted, and nothing is sent through Hod', async () => {
  const world = await startWorld();
  await world.configure(`uat.localhost:${world.ports.uat}/skerry`, `dev.localhost:${world.ports.dev}/uat`);
  await world.publish();
  const { components } = await world.promote('uat');
  for (const { transfer } of components) {
    expect(transfer).toMatchObject({ blobsSent: 0, bytesSent: 0 });
    expect(transfer.blobsMounted).toBeGreaterThan(0);
  }
});
