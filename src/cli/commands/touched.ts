import { command, configsOption } from '../options';
import { answerForProducts } from '../products';

/** `hod touched`. */
export function touchedCommand() {
  return command('touched', 'list the components whose inputs changed, so that only those are built', [
    ['hod touched', 'since the commit that the first environment serves of each component, as the ledger knows'],
    ['hod touched --since origin/main', 'a line for each component that must be built again'],
    ['hod touched --since v2.4.0 --json', 'for the matrix of a CI'],
    ['hod touched --field components.component', 'every component by name'],
    ["hod touched --since origin/main -c 'services/*/hod.yaml'", 'of every product of a repository'],
  ])
    .option(
      '--since <commit>',
      'compare with this commit, tag or branch (default: with what the first environment serves)',
    )
    .addOption(configsOption())
    .action(async (options) => {
      const { touched } = await import('../../operations/touched');
      const { touchedInProducts, touchedView } = await import('../views/touched');
      await answerForProducts(
        options,
        (run) => touched({ ...options, ...run }),
        touchedView,
        (done) => touchedInProducts(done.map(({ result }) => result)),
      );
    });
}
