import { Option } from '@commander-js/extra-typings';
import { text } from 'node:stream/consumers';
import { HodError } from '../../core/errors';
import { answer } from '../answer';
import { command, configOption, dryRunOption, group, quietOption, requestsOption, verboseOption } from '../options';

/** `hod access`. */
export function accessCommand() {
  return group('access', 'check what this identity may do, and manage stored logins')
    .addCommand(checkCommand())
    .addCommand(storeCommand())
    .addCommand(forgetCommand())
    .addCommand(listCommand());
}

function checkCommand() {
  return command('check', 'check whether this identity may read, write and mount where it must', [
    ['hod access check', 'everywhere'],
    ['hod access check dev', 'for a job that writes dev; warns where it could write more'],
    ['hod access check prod --read', 'for a job that only reads prod, such as one that deploys'],
    ['hod access check dev --create', 'create the repositories that do not exist yet'],
    ['hod access check dev --field environments.dev.repositories.write', 'one line for each repository'],
  ])
    .argument('[env...]', 'the environments that the job writes (default: all)')
    .option('--read', 'the job only reads these environments')
    .addOption(
      new Option('--create', 'create repositories that do not exist, with `create-repository` of hod.yaml').conflicts(
        'read',
      ),
    )
    .addOption(configOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (environments, options) => {
      const { checkAccess } = await import('../../operations/access-check');
      const { accessExitCode } = await import('../../results/access');
      const { accessView } = await import('../views/access');
      const result = await answer(options, (run) => checkAccess({ environments, ...options, ...run }), accessView);
      process.exitCode = accessExitCode(result);
    });
}

function storeCommand() {
  return command(
    'store',
    'check a login at its registry, and store it for this user; the password is read from standard input',
    [
      ['hod access store registry.test --user una < password.txt', 'from a file'],
      ['printenv SKERRY_PASSWORD | hod access store dev.registry.test:5000 --user una', 'from a variable'],
      ['hod access store registry.test --user una --field file < password.txt', 'where it is stored'],
    ],
  )
    .argument('<host>', 'the registry, with its port if it has one')
    .requiredOption('--user <name>', 'store this user name with it')
    .addOption(configOption())
    .addOption(dryRunOption())
    .action(async (registry, options) => {
      const { storeLogin } = await import('../../operations/access-store');
      const { storedView } = await import('../views/access');
      const { user: username, dryRun, config } = options;
      await answer(
        options,
        async (run) => storeLogin({ registry, username, password: await readPassword(registry), config, dryRun }, run),
        storedView,
      );
    });
}

function forgetCommand() {
  return command('forget', 'remove the stored login of a registry', [
    ['hod access forget registry.test', 'this one'],
    ['hod access forget dev.registry.test:5000 --dry-run', 'see what would be left'],
    ['hod access forget registry.test --field logins.registry', 'list the registries whose logins stay stored'],
  ])
    .argument('<host>', 'the registry')
    .addOption(dryRunOption())
    .action(async (registry, options) => {
      const { forgetLogin } = await import('../../operations/access-forget');
      const { storedView } = await import('../views/access');
      const { dryRun } = options;
      await answer(options, ({ secrets }) => forgetLogin({ registry, dryRun }, secrets), storedView);
    });
}

function listCommand() {
  return command('list', 'list the registries that a login is stored for', [
    ['hod access list', 'with user names; never a password'],
    ['hod access list --json', 'for a script'],
    ['hod access list --field logins.registry', 'the registries alone'],
  ]).action(async (options) => {
    const { listLogins } = await import('../../operations/access-list');
    const { storedView } = await import('../views/access');
    await answer(options, ({ secrets }) => listLogins(secrets), storedView);
  });
}

async function readPassword(host: string): Promise<string> {
  if (process.stdin.isTTY) {
    throw new HodError('password-missing', {
      what: 'the password comes on standard input',
      object: host,
      why: 'standard input is a terminal, which would show it',
      next: 'pipe it in, or redirect standard input from a file',
    });
  }
  return (await text(process.stdin)).replace(/\r?\n$/, '');
}
