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
  verboseOption,
} from '../options';

/** `hod promote`. */
export function promoteCommand() {
  return command('promote', 'carry the release that the environment before runs, the same digests, into ENV', [
    ['hod promote uat', 'what dev runs goes to uat'],
    ['hod promote prod --version 2.4.0', 'this version, which uat has had'],
    ['hod promote prod --dry-run', 'may it, and what would change?'],
  ])
    .argument('<env>', 'the environment to promote into')
    .addOption(configOption())
    .option('--version <version>', 'the version to promote (default: what the environment before runs)')
    .option('--commit <id>', 'the commit to promote')
    .addOption(strictOrderOption())
    .addOption(summaryOption())
    .addOption(outputsOption())
    .addOption(actorOption())
    .addOption(dryRunOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (environment, options) => {
      const { promote } = await import('../../operations/promote');
      const { promoteView } = await import('../views/delivery');
      const { writeForCi } = await import('../ci-files');
      const result = await answer(options, (observer) => promote({ environment, ...options, observer }), promoteView);
      await writeForCi(options, result);
    });
}
