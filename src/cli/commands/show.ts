import { answer } from '../answer';
import { command, configOption, quietOption, requestsOption, verboseOption } from '../options';

/** `hod show`. */
export function showCommand() {
  return command('show', 'show one image or index: its digest, platforms, sizes, how it runs, and its referrers', [
    ['hod show registry.test/skerry/timetable:2.4.0', 'in a registry'],
    ['hod show out/timetable.tar', 'a build output'],
    ['hod show registry.test/skerry/timetable:2.4.0 --platform linux/arm64', 'how it runs, and how it was made'],
    ['hod show registry.test/skerry/timetable:2.4.0 --deep', 'read every byte: is it what it says?'],
    ['hod show registry.test/skerry/timetable:2.4.0 --field digest', 'the digest of a tag'],
  ])
    .argument('<ref>', 'a reference, the path of a build output, or - for standard input')
    .option('--platform <platform>', 'show the image for this platform in full')
    .option('--deep', 'read every layer, and check it against the config of its image')
    .addOption(configOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (reference, options) => {
      const { show } = await import('../../operations/show');
      const { showView } = await import('../views/show');
      await answer(
        options,
        (run) => show({ reference, ...options, ...run }),
        (result, screen) => showView(result, screen, new Date()),
      );
    });
}
