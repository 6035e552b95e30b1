import {
  actorOption,
  command,
  configsOption,
  dryRunOption,
  quietOption,
  reasonOption,
  togetherOption,
  requestsOption,
  verboseChangesOption,
} from '../options';
import { answerForProducts } from '../products';

/** `hod rollback`. */
export function rollbackCommand() {
  return command('rollback', 'roll ENV back to the release it served before, and withdraw the current one', [
    ['hod rollback prod --reason "turnstiles stay shut"', 'to what it served before'],
    ['hod rollback prod --to 2.4.0 --reason "…"', 'to a version that it served'],
    ['hod rollback prod --line 2.3 --reason "…"', 'one line of versions; the rest stays'],
    ['hod rollback prod --dry-run --reason "…"', 'what would move?'],
    ['hod rollback prod -c \'services/*/hod.yaml\' --reason "…"', 'several products'],
    ['hod rollback prod --reason "it leaks" --field components.timetable.version', 'what is served again'],
  ])
    .argument('<env>', 'the environment to roll back')
    .addOption(configsOption())
    .option('--to <version>', 'roll back to this version (default: the one served before)')
    .option('--commit <id>', 'roll back to the release of this commit')
    .option('--line <line>', 'roll back this line of versions or branch alone, such as 2.3')
    .addOption(reasonOption('the reason; recorded in the ledger'))
    .addOption(actorOption())
    .addOption(togetherOption())
    .addOption(dryRunOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseChangesOption())
    .action(async (environment, options) => {
      const { rollback } = await import('../../operations/rollback');
      const { rollbackView } = await import('../views/rollback');
      await answerForProducts(options, (run) => rollback({ environment, ...options, ...run }), rollbackView);
    });
}
