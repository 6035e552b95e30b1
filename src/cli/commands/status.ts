import { answer } from '../answer';
import { command, configOption, jobsOption, quietOption, verboseOption } from '../options';

/** `hod status`. */
export function statusCommand() {
  return command('status', 'what runs where: environments × images, with version, commit, age and drift', [
    ['hod status', 'all environments'],
    ['hod status uat prod', 'two of them'],
  ])
    .argument('[env...]', 'the environments to show (default: all)')
    .addOption(configOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (environments, options) => {
      const { status } = await import('../../operations/status');
      const { statusView } = await import('../views/status');
      await answer(
        options,
        (observer) => status({ environments, ...options, observer }),
        (result, style) => statusView(result, style, new Date()),
      );
    });
}
