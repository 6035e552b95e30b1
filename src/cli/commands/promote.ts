import { answer } from '../answer';
import {
  actorOption,
  command,
  configOption,
  dryRunOption,
  jobsOption,
  outputsOption,
  quietOption,
  strictOrderOption,
  summaryOption,
  verboseChangesOption,
} from '../options';

/** `hod promote`. */
export function promoteCommand() {
  return command('promote', 'carry the release that the environment before serves, the same digests, into ENV', [
    ['hod promote uat', 'what dev serves goes to uat'],
    ['hod promote prod --version 2.4.0', 'this version, which uat has served'],
    ['hod promote prod --dry-run', 'may it, and what would change?'],
    ['hod promote uat --strict-order --summary "$SUMMARY" --outputs "$OUTPUTS"', 'in a pipeline'],
  ])
    .argument('<env>', 'the environment to promote into')
    .addOption(configOption())
    .option('--version <version>', 'promote this version (default: what the environment before serves)')
    .option('--commit <id>', 'promote the release of this commit')
    .addOption(strictOrderOption())
    .addOption(summaryOption())
    .addOption(outputsOption())
    .addOption(actorOption())
    .addOption(dryRunOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseChangesOption())
    .action(async (environment, options) => {
      const { promote } = await import('../../operations/promote');
      const { promoteView } = await import('../views/delivery');
      const { writeForCi } = await import('../ci-files');
      const result = await answer(options, (run) => promote({ environment, ...options, ...run }), promoteView);
      await writeForCi(options, result);
    });
}
