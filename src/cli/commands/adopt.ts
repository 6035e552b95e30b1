import { answer } from '../answer';
import {
  actorOption,
  command,
  configOption,
  dryRunOption,
  onlyOption,
  quietOption,
  reasonOption,
  requestsOption,
  verboseChangesOption,
} from '../options';

/** `hod adopt`. */
export function adoptCommand() {
  return command('adopt', 'record the releases that the tags of ENV point to; for releases from before Hod', [
    ['hod adopt dev uat prod', 'before the first publish: all environments at once'],
    ['hod adopt dev uat prod --dry-run', 'which release is what, and who says so?'],
    ['hod adopt prod --only tide-watch --version 2.3.0 --commit 3f9c2d1', 'an image that does not say what it is'],
    ['hod adopt prod --dry-run --field environments.prod.components.version', 'the versions that are told'],
  ])
    .argument('<env...>', 'the environments to adopt')
    .addOption(configOption())
    .addOption(onlyOption('adopt'))
    .option('--version <version>', 'what is served is this version, whatever tags and labels say')
    .option('--commit <id>', 'what is served is of this commit, whatever tags and labels say')
    .option(
      '--anew',
      'replace what was adopted before, as long as nothing was published or promoted there; needs --reason',
    )
    .addOption(reasonOption('the reason; recorded in the ledger'))
    .addOption(actorOption())
    .addOption(dryRunOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseChangesOption())
    .action(async (environments, options) => {
      const { adopt } = await import('../../operations/adopt');
      const { adoptView } = await import('../views/adopt');
      await answer(options, (run) => adopt({ environments, ...options, ...run }), adoptView);
    });
}
