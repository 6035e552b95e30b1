import { answer } from '../answer';
import { command, configOption, dryRunOption, jobsOption, quietOption, verboseOption } from '../options';

/** `hod carry`. */
export function carryCommand() {
  return command('carry', 'copy images and artifacts as they are, with their referrers; needs no hod.yaml', [
    ['hod carry dev.test/skerry/timetable:2.4.0 registry.test/skerry/timetable', 'the same digest, under its tag'],
    ['hod carry dev.test/tt@sha256:… registry.test/skerry/timetable:2.4.0', 'under a tag of your own'],
    ['hod carry dev.test/tt:2.4.0 registry.test/tt-arm:2.4.0 --platform linux/arm64', 'one image of an index'],
    [
      'hod carry dev.registry.test/skerry/timetable:2.4.0 registry.test/skerry/timetable --field images.digest',
      'the digest',
    ],
  ])
    .usage('<source...> <target> [options]')
    .argument(
      '<places...>',
      'references or build outputs, and last the repository to write into; a tag that is named there is fixed: it is never moved',
    )
    .option('--platform <platform>', 'copy only the image for this platform')
    .addOption(configOption())
    .addOption(dryRunOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (places, options) => {
      const { carry } = await import('../../operations/carry');
      const { carryView } = await import('../views/carry');
      await answer(options, (run) => carry({ places, ...options, ...run }), carryView);
    });
}
