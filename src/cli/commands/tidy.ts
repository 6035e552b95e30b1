import { answer } from '../answer';
import {
  actorOption,
  command,
  configOption,
  jobsOption,
  parseAge,
  parseCount,
  parseDuration,
  quietOption,
  verboseOption,
} from '../options';

/** `hod tidy`. */
export function tidyCommand() {
  return command('tidy', 'say what may go from the repositories of ENV, and why the rest stays; --remove removes it', [
    ['hod tidy dev', 'what would go, and why does the rest stay?'],
    ['hod tidy dev --remove', 'remove it'],
    ['hod tidy dev --remove --limit 500 --pause 2s', 'a registry in use: a little each night'],
    ['hod tidy dev --unknown --older-than 90d', 'with images from before Hod, or by other tools'],
    ['hod tidy dev --field repositories.goes.digest', 'the digests that would go, a line each'],
  ])
    .argument('[env...]', 'the environments whose repositories are tidied (default: all)')
    .option('--remove', 'remove what may go; without it nothing changes')
    .option('--versions', 'also let go what later environments have served under a version')
    .option('--unknown', 'also let go what the ledger does not know; needs --older-than')
    .option('--older-than <time>', 'how old unknown images must be, by the date that they state, such as 90d', parseAge)
    .option('--limit <n>', 'remove at most this many digests', parseCount)
    .option('--pause <time>', 'wait between batches of 50 digests, such as 2s', parseDuration)
    .addOption(configOption())
    .addOption(actorOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (environments, options) => {
      const { tidy } = await import('../../operations/tidy');
      const { tidyView } = await import('../views/tidy');
      await answer(options, (run) => tidy({ environments, ...options, ...run }), tidyView);
    });
}
