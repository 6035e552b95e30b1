import { Option } from '@commander-js/extra-typings';
import { eventKinds } from '../../core/insight/timeline';
import { command, configsOption, parseCount, quietOption, verboseOption } from '../options';
import { answerForProducts } from '../products';

/** `hod timeline`. */
export function timelineCommand() {
  return command('timeline', 'show the history of the product, or of one release', [
    ['hod timeline', 'the newest first'],
    ['hod timeline 2.4.0', 'from its staging to where it is now, and how long each step took'],
    ['hod timeline --env prod --since 7d', 'what came to prod in a week'],
    ['hod timeline --kind rolled-back --all', 'every time that something was rolled back'],
    ["hod timeline -c 'services/*/hod.yaml' --since 24h", 'of several products, by time'],
    ['hod timeline --most 1 --field events.actor', 'who did something last'],
  ])
    .argument('[release]', 'a version, a commit that it contains, or a digest of something in it')
    .option('--env <env>', 'only what happened in this environment')
    .option('--component <name>', 'only what this component had a part in')
    .addOption(new Option('--kind <kind>', `only events of this kind: ${eventKinds.join(', ')}`).choices(eventKinds))
    .option('--actor <name>', 'only what this person or job did')
    .option('--since <time>', 'only from then on: 24h, 7d, or 2026-11-20')
    .option('--until <time>', 'only until then')
    .option('--most <n>', 'so many events (default: 30)', parseCount, 30)
    .option('--all', 'every event')
    .addOption(configsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (release, { env: environment, all, most, ...options }) => {
      const { timeline } = await import('../../operations/timeline');
      const { timelinesView, timelineView } = await import('../views/timeline');
      const shown = all === true ? undefined : most;
      await answerForProducts(
        options,
        (run) => timeline({ release, environment, ...options, most: shown, ...run }),
        (result, screen) => timelineView(result, screen, new Date()),
        (done, screen) =>
          timelinesView(
            done.map(({ result }) => result),
            { ...screen, now: new Date(), most: shown },
          ),
      );
    });
}
