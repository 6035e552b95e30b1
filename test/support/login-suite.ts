import { createHash } from 'node:crypto';
import { chmod, mkdir, readFile, writeFile } from 'node:fs/promises';
import { delimiter, join } from 'node:path';
import type { ErrorCode } from '../../src/core/errors';
import { hodFails, hodJson } from './hod';
import { environments, type SandboxWorld, type World } from './world';

/** The login that the registries of the suite ask for. */
export const suiteLogin = { username: 'una', password: 'gulls-and-terns/42+' };
const { username, password } = suiteLogin;
const auth = Buffer.from(`${username}:${password}`).toString('base64');

/** Logins that were made by other tools, and by commands, at registries of a kind that ask for {@link suiteLogin}. */
export function loginSuite(kind: string, start: () => Promise<Pick<SandboxWorld, 'world' | 'close'>>): void {
  describe(`logins that exist, at ${kind}`, () => {
    let world: World;
    let close: () => Promise<void>;
    let home: string;
    beforeEach(async () => {
      ({ world, close } = await start());
      home = join(world.folder, 'home');
      world.env = { HOME: home, PATH: `${join(world.folder, 'bin')}${delimiter}${process.env['PATH'] ?? ''}` };
    });
    afterEach(() => close());

    const hosts = () => environments.map((name) => world.host(name));
    const write = async (file: string, content: unknown): Promise<string> => {
      const path = join(home, file);
      await mkdir(join(path, '..'), { recursive: true });
      await writeFile(path, typeof content === 'string' ? content : JSON.stringify(content));
      return path;
    };
    const helper = async (name: string, script: string): Promise<void> => {
      await mkdir(join(world.folder, 'bin'), { recursive: true });
      const path = join(world.folder, 'bin', `docker-credential-${name}`);
      await writeFile(path, `#!/bin/sh\n${script}\n`);
      await chmod(path, 0o755);
    };
    const check = (...args: string[]) => hodJson('access-check', ['access', 'check', ...args], world.options);
    const registries = (text: string) =>
      world.configure(
        /(registries:[^]*)?$/,
        `registries:\n${hosts()
          .map((host) => `  ${host}: { ${text} }\n`)
          .join('')}`,
      );

    test('the file of another tool is enough to publish and promote; it is read, never written, and never shown', async () => {
      await world.fails('login-needed', 'publish');
      const auths = Object.fromEntries(hosts().map((host, at) => [at === 0 ? `https://${host}/v2/` : host, { auth }]));
      const file = await write('.docker/config.json', { auths, experimental: 'x' });
      const before = createHash('sha256')
        .update(await readFile(file))
        .digest('hex');
      const { logins } = await check();
      expect(logins).toEqual(hosts().map((registry) => ({ registry, used: `una in ${file}`, others: [] })));
      await world.publish();
      const run = await world.hod('promote', 'uat', '--verbose');
      expect(run.code).toBe(0);
      expect(run.stdout + run.stderr).not.toMatch(new RegExp(`${auth}|gulls`));
      expect(
        createHash('sha256')
          .update(await readFile(file))
          .digest('hex'),
      ).toBe(before);

      // A stored login of Hod's own comes first, and hod.yaml before all; what else there is, is told.
      const [dev = ''] = hosts();
      await write('.config/hod/logins.json', { registries: { [dev]: { username, password } } });
      await chmod(join(home, '.config/hod/logins.json'), 0o600);
      expect((await check('dev')).logins[0]).toEqual({
        ...{ registry: dev, used: 'the stored login of una', others: [`una in ${file}`] },
      });
      world.env = { ...world.env, PIER_PASSWORD: 'wrong-password' };
      await registries('credentials: { username: una, password: { env: PIER_PASSWORD } }');
      expect((await world.fails('login-refused', 'publish')).why).toContain('the login of una');
      await registries('credentials: none');
      await world.fails('login-needed', 'publish');
      await world.configure(/registries:[^]*$/, 'shared-logins: false\n');
      expect((await world.hod('access', 'forget', dev)).code).toBe(0);
      await world.fails('login-needed', 'publish');
    });

    test('variables say where the file is; helpers keep logins; each that fails is told as what it is', async () => {
      const credHelpers = Object.fromEntries(hosts().map((host) => [host, 'pier']));
      const file = await write('elsewhere/logins.json', { credHelpers });
      world.env = { ...world.env, REGISTRY_AUTH_FILE: file, DOCKER_CONFIG: join(home, 'none') };
      const fails = async (code: ErrorCode, why: string) => {
        const problem = await hodFails(code, ['publish'], world.options);
        expect(problem.why).toContain(why);
        expect(JSON.stringify(problem)).not.toContain('gulls');
        return problem;
      };
      await fails('login-helper', 'there is no such program in PATH');
      await helper('pier', 'cat >/dev/null; echo "the drawer is stuck"; exit 3');
      expect((await fails('login-helper', 'it ended with 3: the drawer is stuck')).next).toContain('credentials: none');
      await helper('pier', `cat >/dev/null; echo '{"Username": "una", "Password": "${password}"}'`);
      await fails('login-helper', 'it did not print');
      await helper('pier', 'cat >/dev/null; echo "credentials not found in native keychain"; exit 1');
      await world.fails('login-needed', 'publish');
      // Where the helper has none, the next place is asked.
      await write('none/config.json', {
        auths: Object.fromEntries(hosts().map((host) => [host, { username, password }])),
      });
      await world.publish();
      await write('none/config.json', '{"auths": {');
      await fails('logins-unreadable', 'it is not JSON');
      // The host is what a helper is asked for.
      await helper(
        'pier',
        `read server; case $server in *localhost:*) printf '{"ServerURL":"%s","Username":"una","Secret":"${password}"}' $server;; esac`,
      );
      await world.publish();
      await world.promote('uat');
    });

    test('a command prints a login document, a password alone, or a token alone, as hod.yaml says', async () => {
      const command = join(world.folder, 'login.sh');
      const prints = (text: string) => writeFile(command, `#!/bin/sh\ncat <<'END'\n${text}\nEND\n`, { mode: 0o755 });
      await prints(password);
      await registries(`credentials: { command: [${command}], user: una, expires-in: 12h }`);
      await world.publish();
      await prints(JSON.stringify({ username, password }));
      expect((await world.fails('credential-malformed', 'publish')).why).toContain('the password alone, on one line');
      await registries(`credentials: { command: [${command}] }`);
      await world.publish();
      await prints(password);
      const bare = await world.fails('credential-malformed', 'publish');
      expect(bare.next).toContain('`user:`');
      expect(JSON.stringify(bare)).not.toContain(password);
      await registries(`credentials: { command: [${command}], prints: token }`);
      await prints('one line\nand another');
      expect((await world.fails('credential-malformed', 'publish')).why).toContain('the token alone');
      expect(await check('dev').catch(() => undefined)).toBeUndefined();
    });

    test('what anyone may read is told; a job that only reads is checked as one', async () => {
      await write('.docker/config.json', { auths: Object.fromEntries(hosts().map((host) => [host, { auth }])) });
      await world.publish();
      const reading = await check('dev', '--read');
      expect(reading.environments.map(({ needs }) => needs)).toEqual(['read', null, null]);
      expect(reading.environments[0]?.repositories.map(({ anyoneReads }) => anyoneReads)).toEqual([
        false,
        false,
        false,
        false,
      ]);
      expect(reading.warnings[0]).toContain('can write to dev');
    });
  });
}
