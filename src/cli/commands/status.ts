import { exitCodes } from '../../core/errors';
import type { StatusResult } from '../../results/status';
import { command, configsOption, quietOption, requestsOption, verboseOption } from '../options';
import { answerForProducts } from '../products';

/** `hod status`. */
export function statusCommand() {
  return command('status', 'show what each environment serves: version, commit, age and drift of every image', [
    ['hod status', 'all environments'],
    ['hod status uat prod', 'two of them'],
    ['hod status prod --bases', 'which releases stand on a base that moved?'],
    ['hod status --check', 'for a script: exit 4 on drift, 6 where a registry does not answer'],
  ])
    .argument('[env...]', 'the environments to show (default: all)')
    .addOption(configsOption())
    .option('--bases', 'ask whether what the images were built on is something else now, and list what to build again')
    .option(
      '--check',
      'end with exit 4 where a registry disagrees with the ledger or a base moved, 6 where one does not answer',
    )
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (environments, { check, ...options }) => {
      const { status } = await import('../../operations/status');
      const { statusView } = await import('../views/status');
      const done = await answerForProducts(
        options,
        (run) => status({ environments, ...options, ...run }),
        (found, look) => statusView(found, look, new Date()),
      );
      if (check === true) {
        endWithDrift(done.map(({ result }) => result));
      }
    });
}

/** Drift goes before what is not known: it is certain. */
function endWithDrift(results: readonly StatusResult[]): void {
  const states = results.flatMap(({ environments, bases }) => [
    ...environments.flatMap(({ images }) => images.map(({ drift }) => drift.state)),
    ...(bases ?? []).map(({ state }) => (state === 'moved' ? 'drifted' : state)),
  ]);
  if (states.includes('drifted')) {
    process.exitCode = exitCodes.missing;
  } else if (states.includes('unknown')) {
    process.exitCode = exitCodes.unavailable;
  }
}
