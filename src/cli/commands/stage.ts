import { answer } from '../answer';
import {
  actorOption,
  command,
  commitOption,
  configOption,
  dryRunOption,
  jobsOption,
  onlyOption,
  parseDuration,
  quietOption,
  verboseBuildOption,
} from '../options';

/** `hod stage`. */
export function stageCommand() {
  return command('stage', 'upload what was built, by digest, for a publish that follows; move no tag', [
    ['hod stage', 'every build output that is here'],
    [
      'hod stage timetable --from out/timetable-arm64.tar --platform linux/arm64',
      'one image, built here for one platform',
    ],
    [
      'hod stage timetable --from build.registry.test/skerry/timetable:c-1f2e3d4c5b6a',
      'one image that its builder pushed',
    ],
    ['hod stage --follow out', 'each output as soon as the build has written it, until the build has ended'],
    ['hod stage --field components.timetable.digest', 'one digest'],
  ])
    .argument('[component...]', 'the components to stage (default: all)')
    .addOption(onlyOption('stage'))
    .addOption(configOption())
    .option(
      '--from <place>',
      'take this build output of the one image that is named: a path, registry/name:tag, or - for standard input (default: as in hod.yaml)',
    )
    .option('--platform <platform>', 'refuse a build output for any other platform')
    .option('--replace', 'put build outputs in the place of others that were staged for the same platforms')
    .option(
      '--follow <dir>',
      'follow the build that writes to this folder; it ends with its commit in build-succeeded or build-failed there',
    )
    .option('--wait <time>', 'follow the build no longer than this (default: 1h)', parseDuration)
    .addOption(commitOption())
    .addOption(actorOption())
    .addOption(dryRunOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseBuildOption())
    .action(async (named, { only = [], ...options }) => {
      const { stage } = await import('../../operations/stage');
      const { stageView } = await import('../views/stage');
      const components = [...named, ...only];
      await answer(options, (run) => stage({ components, ...options, ...run }), stageView);
    });
}
