import { answer } from '../answer';
import {
  actorOption,
  command,
  commitOption,
  configOption,
  dryRunOption,
  jobsOption,
  parseDuration,
  quietOption,
  verboseOption,
} from '../options';

/** `hod stage`. */
export function stageCommand() {
  return command('stage', 'upload what was built, by digest, for a publish that follows; moves no tag', [
    ['hod stage', 'every build output that is here'],
    ['hod stage timetable --from out/timetable-arm64.tar --platform linux/arm64', 'one image, built here for ARM'],
    ['hod stage --follow out', 'each output as soon as the build has written it, until the build has ended'],
  ])
    .argument('[image...]', 'the images and bundles to stage (default: all)')
    .addOption(configOption())
    .option('--from <path>', 'the build output of the one image that is named (default: as in hod.yaml)')
    .option('--platform <platform>', 'the platform that it must be for; it is only checked')
    .option(
      '--follow <dir>',
      'the folder that a build is writing to; it ends with its commit in build-succeeded or build-failed there',
    )
    .option('--wait <time>', 'how long to follow the build (default: 1h)', parseDuration)
    .addOption(commitOption())
    .addOption(actorOption())
    .addOption(dryRunOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (images, options) => {
      const { stage } = await import('../../operations/stage');
      const { stageView } = await import('../views/stage');
      await answer(options, (observer) => stage({ images, ...options, observer }), stageView);
    });
}
