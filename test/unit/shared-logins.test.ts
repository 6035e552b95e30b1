import { chmod, mkdir, mkdtemp, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { delimiter, join } from 'node:path';
import { loginFileSchema, sharedLoginsFor } from '../../src/core/access/login-file';
import { Secrets } from '../../src/core/access/secrets';
import { HodError } from '../../src/core/errors';
import { sharedLogins } from '../../src/workspace/shared-logins';

const encoded = (text: string): string => Buffer.from(text).toString('base64');
const found = (file: object, registry = 'pier.test:5000') => sharedLoginsFor(loginFileSchema.parse(file), registry);
const una = { kind: 'password', username: 'una', password: 'a:b' };

test.each([
  ['the host', 'pier.test:5000'],
  ['the host, in capitals', 'Pier.test:5000'],
  ['a URL', 'https://pier.test:5000'],
  ['a URL with the version of the protocol', 'https://pier.test:5000/v1/'],
])('a login is for the registry that its key names: %s', (_, key) => {
  expect(found({ auths: { [key]: { auth: encoded('una:a:b') } } })).toEqual([una]);
  expect(found({ auths: { [key]: { auth: encoded('una:a:b') } } }, 'pier.test')).toEqual([]);
});

test('what a file has is used in this order: the helper of the registry, or that of all; then the login that stands there', () => {
  const auths = {
    'pier.test:5000': { auth: encoded('una:a:b\0\0') },
    'pier.test:5000/skerry': { auth: encoded('x:y') },
  };
  const part = { kind: 'part', of: 'pier.test:5000/skerry' };
  expect(found({ auths, credsStore: '' })).toEqual([una, part]);
  expect(found({ auths, credsStore: 'drawer' })).toEqual([
    { kind: 'helper', helper: 'drawer', server: 'pier.test:5000' },
    una,
    part,
  ]);
  expect(found({ auths: {}, credsStore: 'drawer', credHelpers: { 'pier.test:5000': 'pier' } })).toEqual([
    { kind: 'helper', helper: 'pier', server: 'pier.test:5000' },
  ]);
  expect(found({ auths: { 'pier.test:5000': { auth: encoded('una:x'), identitytoken: 'held' } } })).toEqual([
    { kind: 'token', token: 'held' },
  ]);
  expect(found({ auths: { 'pier.test:5000': {} } })).toEqual([]);
  for (const auth of ['una', ':secret', 'una:', '\u0000']) {
    expect(found({ auths: { 'pier.test:5000': { auth: encoded(auth) } } })).toEqual([
      { kind: 'malformed', key: 'pier.test:5000' },
    ]);
  }
  // A helper is a program in PATH, and no path of its own.
  expect(loginFileSchema.safeParse({ credsStore: '../../tmp/evil' }).success).toBe(false);
  expect(loginFileSchema.safeParse({ credHelpers: { 'pier.test': 'a b' } }).success).toBe(false);
});

test('a helper that does not end is ended, with what it started', async () => {
  const folder = await mkdtemp(join(tmpdir(), 'hod-helper-'));
  const before = { PATH: process.env['PATH'], file: process.env['REGISTRY_AUTH_FILE'] };
  try {
    const program = join(folder, 'docker-credential-slow');
    await writeFile(program, '#!/bin/sh\nsleep 600 &\nwait\n');
    await chmod(program, 0o755);
    await mkdir(join(folder, 'home'));
    await writeFile(join(folder, 'home', 'logins.json'), JSON.stringify({ credsStore: 'slow' }));
    process.env['PATH'] = `${folder}${delimiter}${before.PATH ?? ''}`;
    process.env['REGISTRY_AUTH_FILE'] = join(folder, 'home', 'logins.json');
    for await (const login of sharedLogins('pier.test', new Secrets(), 200)) {
      expect(login.name).toBe(`docker-credential-slow, named in ${folder}/home/logins.json`);
      const error: unknown = await login.obtain().catch((problem: unknown) => problem);
      expect(error instanceof HodError && [error.code, error.problem.why]).toEqual([
        'login-helper',
        `it was ended: no end within 0.2 s (asked for pier.test, as ${folder}/home/logins.json says)`,
      ]);
      return;
    }
    throw new Error('no login was found');
  } finally {
    process.env['PATH'] = before.PATH;
    if (before.file === undefined) {
      delete process.env['REGISTRY_AUTH_FILE'];
    } else {
      process.env['REGISTRY_AUTH_FILE'] = before.file;
    }
    await rm(folder, { recursive: true });
  }
});
