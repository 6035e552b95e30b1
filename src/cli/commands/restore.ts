import { answer } from '../answer';
import {
  actorOption,
  command,
  configOption,
  dryRunOption,
  quietOption,
  requestsOption,
  verboseChangesOption,
} from '../options';

/** `hod restore`. */
export function restoreCommand() {
  return command('restore', 'move the tags of ENV back to where the ledger says', [
    ['hod restore prod', 'after somebody moved, overwrote or removed tags by hand'],
    ['hod restore prod --dry-run', 'which tags stand elsewhere?'],
    ['hod restore prod --field components.tags.tag', 'the tags that were put right'],
  ])
    .argument('<env>', 'the environment whose tags are put right')
    .addOption(configOption())
    .addOption(actorOption())
    .addOption(dryRunOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseChangesOption())
    .action(async (environment, options) => {
      const { restore } = await import('../../operations/restore');
      const { restoreView } = await import('../views/restore');
      await answer(options, (run) => restore({ environment, ...options, ...run }), restoreView);
    });
}
