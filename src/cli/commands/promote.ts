import { endUnmet } from '../answer';
import {
  actorOption,
  afterRewriteOption,
  newWayInOption,
  againOption,
  command,
  configsOption,
  dryRunOption,
  jobsOption,
  onlyOption,
  outputsOption,
  quietOption,
  reasonOption,
  togetherOption,
  strictOrderOption,
  summaryOption,
  verboseChangesOption,
} from '../options';
import { answerForProducts } from '../products';

/** `hod promote`. */
export function promoteCommand() {
  return command('promote', 'promote the release that the previous environment serves; the digests stay the same', [
    ['hod promote uat', 'what dev serves goes to uat'],
    ['hod promote prod --version 2.4.0', 'this version, which uat has served'],
    ['hod promote uat --commit', 'the commit that this job checked out, whatever dev serves by now'],
    ['hod promote uat --only timetable', 'this component alone'],
    ['hod promote prod --dry-run', 'may it, and what would change?'],
    ['hod promote uat --commit --strict-order --summary "$SUMMARY" --outputs "$OUTPUTS"', 'in a pipeline'],
    ['hod promote prod --field components.timetable.digest', 'one digest, for the next step'],
  ])
    .argument('<env>', 'the environment to promote into')
    .addOption(configsOption())
    .option('--version <version>', 'promote this version (default: the one that the previous environment serves)')
    .option('--commit [id]', 'promote the release of this commit (without a value: the checkout)')
    .addOption(onlyOption('promote'))
    .addOption(strictOrderOption())
    .option('--mend', 'check all existing content, and upload what the registry has lost')
    .option('--despite-freeze', 'promote despite a freeze; needs --reason')
    .addOption(afterRewriteOption())
    .addOption(newWayInOption())
    .addOption(againOption())
    .addOption(reasonOption('the reason, for options that need one; recorded in the ledger'))
    .addOption(summaryOption())
    .addOption(outputsOption())
    .addOption(actorOption())
    .addOption(dryRunOption())
    .addOption(togetherOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseChangesOption())
    .action(async (environment, options) => {
      const { promote } = await import('../../operations/promote');
      const { promoteView } = await import('../views/delivery');
      const { writeForCi } = await import('../ci-files');
      const done = await answerForProducts(options, (run) => promote({ environment, ...options, ...run }), promoteView);
      for (const { config, result } of done) {
        await writeForCi(options, result, { several: config !== undefined });
        endUnmet(result.gates);
      }
    });
}
