import { Command } from '@commander-js/extra-typings';
import { HodError } from '../../core/errors';
import { answer } from '../answer';
import { command, configOption, jobsOption, quietOption, verboseOption } from '../options';

/** `hod access`. */
export function accessCommand() {
  return new Command('access')
    .description('find out what this identity may do, and keep logins')
    .helpOption('-h, --help', 'print help')
    .addCommand(checkCommand())
    .addCommand(storeCommand())
    .addCommand(forgetCommand())
    .addCommand(listCommand());
}

function checkCommand() {
  return command('check', 'may this identity read, write and mount where it must? leaves nothing behind', [
    ['hod access check', 'everywhere'],
    ['hod access check dev', 'for a job that writes dev; warns where it could write more'],
  ])
    .argument('[env...]', 'the environments that the job writes (default: all)')
    .addOption(configOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (environments, options) => {
      const { accessExitCode, checkAccess } = await import('../../operations/check-access');
      const { accessView } = await import('../views/access');
      const result = await answer(
        options,
        (observer) => checkAccess({ environments, ...options, observer }),
        accessView,
      );
      process.exitCode = accessExitCode(result);
    });
}

function storeCommand() {
  return command('store', 'store the login of a registry for this user; the password comes on standard input', [
    ['hod access store registry.test --user una < password.txt', 'from a file'],
  ])
    .argument('<host>', 'the registry, with its port if it has one')
    .requiredOption('--user <name>', 'the user name')
    .action(async (host, options) => {
      const { storeLogin } = await import('../../operations/stored-logins');
      const { storedView } = await import('../views/access');
      await answer(options, async () => storeLogin(host, options.user, await readPassword(host)), storedView);
    });
}

function forgetCommand() {
  return command('forget', 'remove the stored login of a registry', [['hod access forget registry.test', 'this one']])
    .argument('<host>', 'the registry')
    .action(async (host, options) => {
      const { forgetLogin } = await import('../../operations/stored-logins');
      const { storedView } = await import('../views/access');
      await answer(options, () => forgetLogin(host), storedView);
    });
}

function listCommand() {
  return command('list', 'the registries that a login is stored for', [
    ['hod access list', 'never shows a password'],
  ]).action(async (options) => {
    const { listLogins } = await import('../../operations/stored-logins');
    const { storedView } = await import('../views/access');
    await answer(options, listLogins, storedView);
  });
}

async function readPassword(host: string): Promise<string> {
  if (process.stdin.isTTY) {
    throw new HodError('usage', {
      what: 'the password comes on standard input',
      object: host,
      why: 'standard input is a terminal, which would show it',
      next: 'pipe it in, or redirect standard input from a file',
    });
  }
  let text = '';
  for await (const piece of process.stdin.setEncoding('utf8') as AsyncIterable<string>) {
    text += piece;
  }
  return text.replace(/\r?\n$/, '');
}
