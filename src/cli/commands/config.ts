import { Command } from '@commander-js/extra-typings';
import { answer } from '../answer';
import { command, configOption } from '../options';

/** `hod config`. */
export function configCommand() {
  const check = command('check', 'read the configuration and say everything that is wrong in it', [
    ['hod config check', 'hod.yaml in this folder'],
    ['hod config check -c services/hod.yaml', 'another'],
  ])
    .addOption(configOption())
    .action(async (options) => {
      const { checkConfig } = await import('../../operations/check-config');
      const { configView } = await import('../views/config');
      await answer(options, () => checkConfig(options.config), configView);
    });
  return new Command('config').description('work with hod.yaml').addCommand(check);
}
