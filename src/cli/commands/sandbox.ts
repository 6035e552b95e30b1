import { once } from 'node:events';
import { InvalidArgumentError } from '@commander-js/extra-typings';
import { HodError } from '../../core/errors';
import { visible } from '../../core/text';
import { answer } from '../answer';
import { command, parseCount } from '../options';

/** `hod sandbox`. */
export function sandboxCommand() {
  return command('sandbox', 'run stand-in registries on loopback, to try things out and to test against', [
    ['hod sandbox dev uat prod', 'dev.localhost:5510, uat.localhost:5511, prod.localhost:5512'],
    ['hod sandbox --port 0 --folder /tmp/registry', 'a free port; content is kept'],
    ['hod sandbox --port 0 --field registries.registry', 'where the registries listen'],
  ])
    .argument('[name...]', 'a registry for each name (default: sandbox)', (name: string, names?: string[]) => [
      ...(names ?? []),
      nameOf(name),
    ])
    .option(
      '--port <n>',
      'listen on this port for the first, and on the next for the others; 0 for any free ones (default: 5510)',
      portOf,
      5510,
    )
    .option('--folder <dir>', 'keep content here (default: in memory)')
    .option('--user <name>', 'ask for this user name, and the password in HOD_SANDBOX_PASSWORD')
    .option('--immutable <pattern>', 'tags that may be written once only: a regular expression', patternOf)
    .option('--trusting', 'take content that is not what its digest says, and manifests without theirs')
    .option('--without-referrers', 'keep no list of what refers to a manifest, as older registries')
    .option('--identity', 'ask for access tokens, and start an identity provider with one job that may have them')
    .option('--receiver', 'start a receiver of announcements too, and tell what comes')
    .option('--faults <seed>', 'let about one request in ten go wrong, the same for the same number', parseCount)
    .option('--log <file>', 'append every request to this file, one JSON document a line')
    .action(async (named, options) => {
      const { startSandbox } = await import('../../sandbox/sandbox');
      const { sandboxView } = await import('../views/sandbox');
      const login =
        options.user === undefined ? undefined : { username: options.user, password: passwordOf(options.user) };
      const sandbox = await startSandbox({
        ...options,
        names: named.length === 0 ? ['sandbox'] : named,
        login,
        received: ({ event, signed }) => {
          const text = [event.sequence, event.type, event.subject].map(String).join('  ');
          process.stderr.write(`received  ${visible(text)}  ${signed ? 'signed' : 'NOT SIGNED'}\n`);
        },
      });
      const { registries, identity, receiver } = sandbox;
      await answer(options, () => Promise.resolve({ registries: [...registries], identity, receiver }), sandboxView);
      await Promise.race([once(process, 'SIGINT'), once(process, 'SIGTERM')]);
      await sandbox.close();
    });
}

function nameOf(text: string): string {
  if (!/^[a-z][a-z0-9-]*$/.test(text)) {
    throw new InvalidArgumentError('a name is a letter, then letters, digits and hyphens');
  }
  return text;
}

function portOf(text: string): number {
  if (!/^\d{1,5}$/.test(text) || Number(text) > 65_535) {
    throw new InvalidArgumentError('a port is a number from 0 to 65535');
  }
  return Number(text);
}

function patternOf(text: string): RegExp {
  try {
    return new RegExp(text);
  } catch {
    throw new InvalidArgumentError('it is not a regular expression');
  }
}

function passwordOf(user: string): string {
  const password = process.env['HOD_SANDBOX_PASSWORD'];
  if (password === undefined || password === '') {
    throw new HodError('password-missing', {
      what: 'the sandbox has no password to ask for',
      object: user,
      why: 'HOD_SANDBOX_PASSWORD is not set',
      next: 'set it, or leave --user out',
    });
  }
  return password;
}
