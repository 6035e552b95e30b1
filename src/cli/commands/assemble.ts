import { answer } from '../answer';
import { command, configOption, dryRunOption, jobsOption, quietOption, verboseOption } from '../options';

/** `hod assemble`. */
export function assembleCommand() {
  return command('assemble', 'make one index of images for different platforms; needs no hod.yaml', [
    ['hod assemble registry.test/skerry/timetable:2.4.0 out/amd64 out/arm64.tar', 'two image layouts'],
    ['hod assemble registry.test/skerry/timetable out/all.tar#amd64 registry.test/skerry/timetable@sha256:…', 'no tag'],
  ])
    .argument('<target>', 'the repository to write into; a tag named here is fixed: it is never moved')
    .argument('<members...>', 'build outputs (layouts or archives, with #name for one entry) or references')
    .addOption(configOption())
    .addOption(dryRunOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (target, members, options) => {
      const { assemble } = await import('../../operations/assemble');
      const { assembleView } = await import('../views/assemble');
      await answer(options, (run) => assemble({ target, members, ...options, ...run }), assembleView);
    });
}
