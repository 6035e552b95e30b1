import { answer } from '../answer';
import { command, configOption, jobsOption } from '../options';

/** `hod status`. */
export function statusCommand() {
  return command('status', 'what runs where: environments × images, with version, commit, age and drift', [
    ['hod status', 'all environments'],
    ['hod status uat prod', 'two of them'],
  ])
    .argument('[env...]', 'the environments to show (default: all)')
    .addOption(configOption())
    .addOption(jobsOption())
    .action(async (environments, options) => {
      const { status } = await import('../../operations/status');
      const { statusView } = await import('../views/status');
      await answer(
        options,
        () => status({ environments, ...options }),
        (result, style) => statusView(result, style, new Date()),
      );
    });
}
