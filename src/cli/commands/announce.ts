import { exitCodes } from '../../core/errors';
import { answer } from '../answer';
import { actorOption, command, configOption, quietOption, verboseOption } from '../options';

/** `hod announce`. */
export function announceCommand() {
  return command('announce', 'deliver announcements that are still undelivered', [
    ['hod announce', 'after a receiver was down'],
    ['hod announce --json', 'the same, for a script: exit 6 where one is down still'],
    ['hod announce --field receivers.board.failed', 'why one receiver took nothing; empty where it did'],
  ])
    .addOption(configOption())
    .addOption(actorOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (options) => {
      const { announce } = await import('../../operations/announce');
      const { announceView } = await import('../views/announce');
      const { receivers } = await answer(options, (run) => announce({ ...options, ...run }), announceView);
      if (receivers.some(({ failed }) => failed !== null)) {
        process.exitCode = exitCodes.unavailable;
      }
    });
}
