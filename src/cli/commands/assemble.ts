import { answer } from '../answer';
import { command, configOption, dryRunOption, jobsOption, parseDuration, quietOption, verboseOption } from '../options';

/** `hod assemble`. */
export function assembleCommand() {
  return command('assemble', 'make one index of images for different platforms; needs no hod.yaml', [
    ['hod assemble registry.test/skerry/timetable:2.4.0 out/amd64 out/arm64.tar', 'two image layouts'],
    ['hod assemble registry.test/skerry/timetable out/all.tar#amd64 registry.test/skerry/timetable@sha256:…', 'no tag'],
    [
      'hod assemble registry.test/skerry/timetable:2.4.0 dev.test/tt:amd64 dev.test/tt:arm64 --require linux/amd64 linux/arm64 --wait 20m',
      'of what other jobs still build',
    ],
    [
      'hod assemble registry.test/skerry/timetable:2.4.1 registry.test/skerry/timetable:2.4.0 --replace linux/arm64=out/arm64',
      'change an index: its other members stay',
    ],
    [
      'hod assemble registry.test/skerry/timetable:2.4.0 out/amd64 out/arm64.tar --field digest',
      'the digest of the index',
    ],
  ])
    .argument('<target>', 'the repository to write into; a tag named here is fixed: it is never moved')
    .argument(
      '<members...>',
      'build outputs (layouts or archives, with #name for one entry) or references; with PLATFORM= before one that must be for it',
    )
    .option('--add <member...>', 'add these members to the index')
    .option('--replace <platform=member...>', 'replace the member of the index for a platform')
    .option('--drop <platform...>', 'remove the members of the index for these platforms')
    .option('--require <platform...>', 'exit with 4 if one of these platforms is missing')
    .option('--index', 'make a new index also of one image or index; otherwise that stays as it is, with its digest')
    .option('--wait <time>', 'wait this long for missing members, such as 10m', parseDuration)
    .addOption(configOption())
    .addOption(dryRunOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (target, members, options) => {
      const { assembleImages } = await import('../../operations/assemble');
      const { assembleView } = await import('../views/assemble');
      await answer(options, (run) => assembleImages({ target, members, ...options, ...run }), assembleView);
    });
}
