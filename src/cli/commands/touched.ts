import { answer } from '../answer';
import { command, configOption } from '../options';

/** `hod touched`. */
export function touchedCommand() {
  return command('touched', 'list the components whose inputs changed, so that only those are built', [
    ['hod touched --since origin/main', 'a line for each component that must be built again'],
    ['hod touched --since v2.4.0 --json', 'for the matrix of a CI'],
  ])
    .requiredOption(
      '--since <commit>',
      'compare with this commit, tag or branch; what changed up to what is checked out counts',
    )
    .addOption(configOption())
    .action(async (options) => {
      const { touched } = await import('../../operations/touched');
      const { touchedView } = await import('../views/touched');
      await answer(options, () => touched(options), touchedView);
    });
}
