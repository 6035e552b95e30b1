import { InvalidArgumentError, Option } from '@commander-js/extra-typings';
import { HodError } from '../../core/errors';
import { isResultName } from '../../core/ledger/result-name';
import { answer } from '../answer';
import { actorOption, command, configOption, configsOption, dryRunOption, group } from '../options';
import { answerForProducts } from '../products';

/** `hod record`. */
export function recordCommand() {
  return group('record', 'record evidence about a release, for the gates of an environment')
    .addCommand(resultCommand())
    .addCommand(signOffCommand())
    .addCommand(rulesCommand());
}

function resultCommand() {
  return command('result', 'record the result of a test of the release that an environment serves', [
    ['hod record result smoke --passed --in uat', 'of what uat serves now'],
    ['hod record result smoke --passed --in uat --commit', 'of the commit that this job checked out'],
    ['hod record result smoke --failed --in uat --link https://ci.test/7', 'and where to read more'],
    ['hod record result scan --report scan.sarif --in uat', 'what a tool found, by its report'],
    ['hod record result smoke --passed --in uat --version 2.4.0', 'of this version, which uat served'],
    ['hod record result smoke --passed --in uat --field releases.version', 'the versions that it is about'],
  ])
    .argument('<name>', 'the name of the test, as `gates:` has it', parseResultName)
    .addOption(configsOption())
    .addOption(new Option('--passed', 'it passed').conflicts(['failed', 'report']))
    .addOption(new Option('--failed', 'it failed').conflicts('report'))
    .option('--report <file>', 'read the result from a report (SARIF, JUnit XML or CycloneDX), and upload the report')
    .requiredOption('--in <env>', 'the environment that served the release')
    .option('--link <url>', 'a URL with details')
    .option('--version <version>', 'the result is about this version (default: the one that the environment serves)')
    .option('--commit [id]', 'the result is about the release of this commit (without a value: the checkout)')
    .addOption(servingOption())
    .addOption(actorOption())
    .addOption(dryRunOption())
    .action(async (name, { in: environment, passed, failed, ...options }) => {
      if (passed === undefined && failed === undefined && options.report === undefined) {
        throw new HodError('command-line', {
          what: 'an option is missing',
          object: `hod record result ${name}`,
          why: 'a result is --passed, --failed, or in a --report',
          next: 'add the one that is so',
        });
      }
      const { recordResult } = await import('../../operations/record');
      const { resultView } = await import('../views/record');
      const told = { environment, name, passed: options.report === undefined ? passed === true : undefined };
      await answerForProducts(options, (run) => recordResult({ ...told, ...options, ...run }), resultView);
    });
}

function signOffCommand() {
  return command('sign-off', 'record that a release may enter an environment', [
    ['hod record sign-off --for prod', 'what uat serves now may enter prod'],
    ['hod record sign-off --for prod --version 2.4.0', 'this version may'],
    ['hod record sign-off --for prod --sign', 'signed with your SSH key, as git signs with'],
    ['hod record sign-off --for prod --sign ~/.ssh/id_ed25519', 'with this key'],
    ['hod record sign-off --for prod --field releases.version', 'the versions that it is about'],
  ])
    .addOption(configsOption())
    .requiredOption('--for <env>', 'the environment that it may enter')
    .option('--version <version>', 'sign this version off (default: the one that the previous environment serves)')
    .option('--commit [id]', 'sign off the release of this commit (without a value: the checkout)')
    .addOption(signOption())
    .addOption(servingOption())
    .addOption(actorOption())
    .addOption(dryRunOption())
    .action(async ({ for: environment, ...options }) => {
      const { signOff } = await import('../../operations/record');
      const { signOffView } = await import('../views/record');
      await answerForProducts(options, (run) => signOff({ environment, ...options, ...run }), signOffView);
    });
}

function rulesCommand() {
  return command('rules', 'accept the rules of this hod.yaml for an environment', [
    ['hod record rules --for prod --reason "one sign-off is enough at night"', 'on record'],
    ['hod record rules --for prod --reason "…" --dry-run', 'what differs from the rules in force'],
    [
      'hod record rules --for prod --reason "…" --sign',
      'signed with your SSH key, where prod asks for proven sign-offs',
    ],
    ['hod record rules --for prod --reason "…" --field inForce', 'whether enough people accept them'],
  ])
    .addOption(configOption())
    .requiredOption('--for <env>', 'the environment that they are accepted for')
    .requiredOption('--reason <text>', 'why they are right; the ledger keeps the reason')
    .addOption(signOption())
    .addOption(actorOption())
    .addOption(dryRunOption())
    .action(async ({ for: environment, ...options }) => {
      const { recordRules } = await import('../../operations/record-rules');
      const { rulesView } = await import('../views/record');
      await answer(options, (run) => recordRules({ environment, ...options, ...run }), rulesView);
    });
}

function signOption() {
  return new Option('--sign [key]', 'sign it with an SSH key: a key file (without one: the key that git signs with)');
}

function servingOption() {
  return new Option(
    '--serving',
    'use the release that the environment serves, even if another one is checked out',
  ).conflicts(['version', 'commit']);
}

function parseResultName(text: string): string {
  if (!isResultName(text)) {
    throw new InvalidArgumentError('it must be lower-case letters, digits and . _ -, 64 at most');
  }
  return text;
}
