import { createHmac, createPublicKey, generateKeyPairSync, sign, type KeyObject } from 'node:crypto';
import { readFileSync } from 'node:fs';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { join } from 'node:path';
import { hod, hodFails, hodJson } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

/** Whose token counts, and what a job without the key of its issuer can make up. */

const encoded = (document: object | string | Buffer): string =>
  Buffer.from(
    document instanceof Buffer || typeof document === 'string' ? document : JSON.stringify(document),
  ).toString('base64url');
const seconds = (): number => Math.floor(Date.now() / 1000);

/** A key of an issuer, and the token that it signs. */
interface IssuerKey {
  readonly kid: string;
  readonly key: KeyObject;
  readonly jwk: object;
}
function makeIssuerKey(kid: string): IssuerKey {
  const { publicKey, privateKey } = generateKeyPairSync('ec', { namedCurve: 'P-256' });
  return { kid, key: privateKey, jwk: { ...publicKey.export({ format: 'jwk' }), kid, alg: 'ES256', use: 'sig' } };
}
function tokenOf(claims: object, { kid, key }: IssuerKey, header: object = {}): string {
  const text = `${encoded({ alg: 'ES256', typ: 'JWT', kid, ...header })}.${encoded(claims)}`;
  return `${text}.${encoded(sign('sha256', Buffer.from(text), { key, dsaEncoding: 'ieee-p1363' }))}`;
}

const [first, second, stranger] = ['first', 'second', 'first'].map(makeIssuerKey) as [IssuerKey, IssuerKey, IssuerKey];
let sandbox: SandboxWorld;
let server: Server;
let url: string;
let published: object[] = [first.jwk];
let discovered: object | string | undefined;
let asked: string[] = [];

beforeAll(async () => {
  server = createServer((request, response) => {
    asked.push(`${request.url ?? ''} ${request.headers.authorization ?? ''}`);
    const documents: Record<string, unknown> = {
      '/.well-known/openid-configuration': discovered ?? { issuer: url, jwks_uri: `${url}/keys` },
      '/keys': { keys: published },
    };
    const document = documents[request.url ?? ''];
    response.writeHead(document === undefined ? 404 : 200, { 'content-type': 'application/json' });
    response.end(typeof document === 'string' ? document : JSON.stringify(document ?? {}));
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  url = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;
  sandbox = await sandboxWorld();
  const { world } = sandbox;
  await world.configure(
    '    tags: { fixed: ["{version}"], moving: [uat] }',
    '$&\n    gates: { sign-offs: { count: 1, proven: true } }',
  );
  await world.configure(
    /^environments:/m,
    `trust: { issuers: { ci: { url: '${url}', audience: hod, subject: 'job:approve@*', token: { env: CI_TOKEN } } } }\nenvironments:`,
  );
  await world.publish('--actor', 'ci');
});
beforeEach(() => {
  published = [first.jwk];
  discovered = undefined;
  asked = [];
});
afterAll(async () => {
  await sandbox.close();
  await new Promise((resolve) => server.close(resolve));
});

const claims = (more: object = {}): object => ({
  ...{ iss: url, sub: 'job:approve@main', aud: 'hod', exp: seconds() + 300, iat: seconds() },
  ...more,
});
const withToken = (token: string) => ({ ...sandbox.world.options, env: { ...sandbox.world.env, CI_TOKEN: token } });
const signOff = ['record', 'sign-off', '--for', 'uat', '--actor', 'una'];

test.each<[string, () => string, RegExp]>([
  [
    'for another audience',
    () => tokenOf(claims({ aud: ['registry', 'other'] }), first),
    /meant for registry, other, not for hod/,
  ],
  ['of another issuer', () => tokenOf(claims({ iss: 'https://ci.test' }), first), /issued by https:\/\/ci.test/],
  [
    'of another job',
    () => tokenOf(claims({ sub: 'job:build@main' }), first),
    /of job:build@main; `subject:` names job:approve@\*/,
  ],
  ['that expired', () => tokenOf(claims({ exp: seconds() - 3600 }), first), /expired at .*check the clock/],
  [
    'of tomorrow',
    () => tokenOf(claims({ iat: seconds() + 86_400, exp: seconds() + 90_000 }), first),
    /in the future: check the clock/,
  ],
  [
    'that is not valid yet',
    () => tokenOf(claims({ nbf: seconds() + 86_400 }), first),
    /not valid yet: check the clock/,
  ],
  ['without an end', () => tokenOf(claims({ exp: undefined }), first), /claim exp is missing/],
  ['without a subject', () => tokenOf(claims({ sub: undefined }), first), /claim sub is missing/],
  [
    'that another key signed, under the same name',
    () => tokenOf(claims(), stranger),
    /no key that .* publishes has signed it/,
  ],
  ['whose key is not published any more', () => tokenOf(claims(), second), /no key that .* publishes has signed it/],
  [
    'without a signature',
    () => `${encoded({ alg: 'none' })}.${encoded(claims())}.`,
    /algorithm does not count: none|not a JSON Web Token/,
  ],
  [
    'whose shared secret is the public key',
    () => {
      const pem = createPublicKey({ key: first.jwk as never, format: 'jwk' }).export({ format: 'pem', type: 'spki' });
      const text = `${encoded({ alg: 'HS256', kid: 'first' })}.${encoded(claims())}`;
      return `${text}.${encoded(createHmac('sha256', pem).update(text).digest())}`;
    },
    /algorithm does not count: HS256/,
  ],
  [
    'whose claims were changed',
    () => tokenOf(claims(), first).replace(/\.[^.]+\./, `.${encoded(claims({ sub: 'job:approve@x' }))}.`),
    /no key that/,
  ],
  ['that brings its own key', () => tokenOf(claims(), stranger, { jwk: stranger.jwk, kid: 'own' }), /no key that/],
  ['that is none', () => 'a-secret-that-is-no-token', /not a JSON Web Token/],
])('a token %s proves nothing, and the sign-off is refused', async (_, token, why) => {
  const run = await hod(signOff, withToken(token()));
  expect(run.code).toBe(3);
  expect(run.stderr).toMatch(/the identity of this job is not proven \(trust\.issuers\.ci\)/);
  expect(run.stderr).toMatch(why);
  expect(run.stderr).toMatch(/counts proven sign-offs only/);
  expect(run.stdout + run.stderr).not.toContain(token());
});

test.each<[string, () => void, RegExp]>([
  [
    'calls itself something else',
    () => (discovered = { issuer: 'https://ci.test', jwks_uri: `${url}/keys` }),
    /is of the issuer https:\/\/ci.test/,
  ],
  [
    'has its keys where anybody can change them',
    () => (discovered = { issuer: url, jwks_uri: 'http://keys.test/keys' }),
    /keys\.test/,
  ],
  ['answers with what is no document', () => (discovered = '<html>'), /answered 200, and not with what it should/],
  [
    'publishes a shared secret alone',
    () => (published = [{ kty: 'oct', k: encoded('secret'), kid: 'first' }]),
    /no key that/,
  ],
  ['publishes no keys', () => (published = []), /no key that/],
])('an issuer that %s proves nothing', async (_, change, why) => {
  change();
  const run = await hod(signOff, withToken(tokenOf(claims(), first)));
  expect([run.code, run.stderr]).toEqual([3, expect.stringMatching(why)]);
});

test('an issuer that does not answer keeps nobody from publishing, and proves nobody', async () => {
  const { world } = sandbox;
  const before = readFileSync(join(world.product.folder, 'hod.yaml'), 'utf8');
  await world.configure(url, 'http://127.0.0.1:9');
  const run = await hod(['publish', '--actor', 'ci'], withToken(tokenOf(claims({ iss: 'http://127.0.0.1:9' }), first)));
  expect([run.code, run.stderr]).toEqual([0, expect.stringMatching(/identity of this job is not proven/)]);
  await world.configure(/[^]*/, before.replaceAll('$', '$$$$'));
});

test('a proven job signs off under its own name; keys may rotate, and rules may trust it no more', async () => {
  const { world } = sandbox;
  published = [second.jwk, first.jwk, { kty: 'new kind', kid: 'x' }];
  const made = await hodJson('sign-off', signOff, withToken(tokenOf(claims(), second)));
  expect(made).toMatchObject({ by: 'job:approve@main', isNew: true });
  expect(await hodJson('sign-off', signOff, withToken(tokenOf(claims(), first)))).toMatchObject({ isNew: false });
  expect(asked.filter((each) => each.includes('Bearer'))).toEqual([]);
  const access = await hodJson('access-check', ['access', 'check'], withToken(tokenOf(claims(), first)));
  expect(access.identity).toEqual({ name: 'job:approve@main', issuer: 'ci' });
  const { events } = await hodJson('timeline', ['timeline', '--kind', 'signed-off'], world.options);
  expect(events).toMatchObject([{ actor: 'job:approve@main', proven: true }]);
  await world.configure('job:approve@*', 'job:sign@*');
  const error = await hodFails('sign-off-missing', ['promote', 'uat'], world.options);
  expect([error.why].flat().join()).toContain('the rules do not trust ci for job:approve@main');
  await world.configure('job:sign@*', 'job:approve@*');
  const promoted = await world.promote('uat');
  expect(promoted.gates).toContainEqual(
    expect.objectContaining({ gate: 'sign-offs', detail: 'signed off by job:approve@main' }),
  );
  expect((await hodJson('prove', ['prove', 'uat'], world.options)).environments[0]?.findings).toEqual([]);
});
