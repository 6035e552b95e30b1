import { answer } from '../answer';
import { command, configOption, quietOption, requestsOption, verboseOption } from '../options';

/** `hod show`. */
export function showCommand() {
  return command('show', 'show one image or index: its digest, platforms, sizes and annotations', [
    ['hod show registry.test/skerry/timetable:2.4.0', 'in a registry'],
    ['hod show out/timetable.tar', 'a build output'],
  ])
    .argument('<ref>', 'a reference, or the path of a build output')
    .addOption(configOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (reference, options) => {
      const { show } = await import('../../operations/show');
      const { showView } = await import('../views/show');
      await answer(options, (run) => show({ reference, ...options, ...run }), showView);
    });
}
