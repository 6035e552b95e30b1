import { answer } from '../answer';
import { command, configOption, quietOption, requestsOption, verboseOption } from '../options';

/** `hod status`. */
export function statusCommand() {
  return command('status', 'show what each environment serves: version, commit, age and drift of every image', [
    ['hod status', 'all environments'],
    ['hod status uat prod', 'two of them'],
  ])
    .argument('[env...]', 'the environments to show (default: all)')
    .addOption(configOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (environments, options) => {
      const { status } = await import('../../operations/status');
      const { statusView } = await import('../views/status');
      await answer(
        options,
        (run) => status({ environments, ...options, ...run }),
        (result, look) => statusView(result, look, new Date()),
      );
    });
}
