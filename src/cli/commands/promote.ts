import { answer, endUnmet } from '../answer';
import {
  actorOption,
  afterRewriteOption,
  againOption,
  command,
  configOption,
  dryRunOption,
  jobsOption,
  onlyOption,
  outputsOption,
  quietOption,
  reasonOption,
  strictOrderOption,
  summaryOption,
  verboseChangesOption,
} from '../options';

/** `hod promote`. */
export function promoteCommand() {
  return command('promote', 'carry the release that the environment before serves, the same digests, into ENV', [
    ['hod promote uat', 'what dev serves goes to uat'],
    ['hod promote prod --version 2.4.0', 'this version, which uat has served'],
    ['hod promote uat --only timetable', 'this image alone'],
    ['hod promote prod --dry-run', 'may it, and what would change?'],
    ['hod promote uat --strict-order --summary "$SUMMARY" --outputs "$OUTPUTS"', 'in a pipeline'],
  ])
    .argument('<env>', 'the environment to promote into')
    .addOption(configOption())
    .option('--version <version>', 'promote this version (default: what the environment before serves)')
    .option('--commit <id>', 'promote the release of this commit')
    .addOption(onlyOption('promote'))
    .addOption(strictOrderOption())
    .option('--despite-freeze', 'let it in although the environment is frozen; needs --reason')
    .addOption(afterRewriteOption())
    .addOption(againOption())
    .addOption(reasonOption('say why, for the options that need it; the ledger keeps it'))
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
      endUnmet(result.gates);
    });
}
