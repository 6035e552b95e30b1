import { Option } from '@commander-js/extra-typings';
import { exitCodes, HodError } from '../../core/errors';
import { answer } from '../answer';
import {
  actorOption,
  command,
  configsOption,
  jobsOption,
  parseAge,
  parseCount,
  parseDuration,
  quietOption,
  verboseOption,
} from '../options';
import { answerForProducts } from '../products';

/** `hod tidy`. */
export function tidyCommand() {
  return command('tidy', 'say what may go from the repositories of ENV, and why the rest stays; --remove removes it', [
    ['hod tidy dev', 'what would go, and why does the rest stay?'],
    ['hod tidy dev --remove', 'remove it'],
    ['hod tidy dev --remove --limit 500 --pause 2s', 'a registry in use: a little each night'],
    ['hod tidy dev --unknown --older-than 90d', 'with images from before Hod, or by other tools'],
    ["hod tidy dev -c 'services/*/hod.yaml'", 'of several products'],
    ['hod tidy --here --remove', 'what killed runs left behind on this machine'],
    ['hod tidy dev --field repositories.goes.digest', 'the digests that would go, a line each'],
  ])
    .argument('[env...]', 'the environments whose repositories are tidied (default: all)')
    .addOption(
      new Option(
        '--here',
        'say what Hod keeps on this machine, beside hod.yaml and for this user, and what of it nothing needs any more',
      ).conflicts(['versions', 'unknown', 'olderThan', 'limit', 'pause']),
    )
    .option('--remove', 'remove what may go; without it nothing changes')
    .option('--versions', 'also let go what later environments have served under a version')
    .option('--unknown', 'also let go what the ledger does not know; needs --older-than')
    .option('--older-than <time>', 'how old unknown images must be, by the date that they state, such as 90d', parseAge)
    .option('--limit <n>', 'remove at most this many digests', parseCount)
    .option('--pause <time>', 'wait between batches of 50 digests, such as 2s', parseDuration)
    .addOption(configsOption())
    .addOption(actorOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (environments, options) => {
      if (options.here === true) {
        refuseEnvironments(environments);
        const { tidyHere } = await import('../../operations/tidy-here');
        const { tidyHereView } = await import('../views/tidy-here');
        await answer(options, () => tidyHere(options), tidyHereView);
        return;
      }
      const { tidy } = await import('../../operations/tidy');
      const { tidyView } = await import('../views/tidy');
      const done = await answerForProducts(options, (run) => tidy({ environments, ...options, ...run }), tidyView);
      const repositories = done.flatMap(({ result }) => result.repositories);
      if (repositories.some(({ unread }) => unread !== null)) {
        process.exitCode = exitCodes.unavailable;
      }
    });
}

function refuseEnvironments(environments: readonly string[]): void {
  if (environments.length > 0) {
    throw new HodError('options-conflict', {
      what: '--here takes no environments',
      object: `hod tidy ${environments.join(' ')} --here`,
      why: 'it is about files on this machine, and environments are in registries',
      next: 'leave out one of the two',
    });
  }
}
