import { Option } from '@commander-js/extra-typings';
import { exitCodes } from '../../core/errors';
import type { StatusResult } from '../../results/status';
import {
  command,
  configsOption,
  quietOption,
  requestsOption,
  verboseChangesOption,
  type OutputOptions,
} from '../options';
import { textOf } from '../answer';
import { knownSecrets } from '../known-secrets';
import { answerForProducts } from '../products';
import { errorOf } from '../report';

/** `hod status`. */
export function statusCommand() {
  return command('status', 'show what each environment serves, what is waiting, and any drift', [
    ['hod status', 'all environments'],
    ['hod status uat prod', 'two of them'],
    ['hod status prod --bases', 'which releases stand on a base that moved?'],
    ['hod status dev --growth', 'how much do the repositories of dev hold, and what for?'],
    ['hod status --announce', 'for a nightly job: tell the receivers of bases that moved'],
    ['hod status --check', 'for a script: exit 4 on drift, 6 where a registry does not answer'],
    ['hod status prod --pull', 'how to pull what prod serves: a reference by digest on each line'],
    [
      'hod status prod --running nodes.txt',
      'beside what prod serves: what runs, by a text that names it; - reads a pipe',
    ],
    ['hod status --watch', 'stay, and show it again every five seconds'],
    ['hod status prod --field environments.prod.components.version', 'the versions that prod serves'],
  ])
    .argument('[env...]', 'the environments to show (default: all)')
    .addOption(configsOption())
    .option('--growth', 'tell how much each repository holds and why; asks registries for every manifest')
    .option('--bases', 'ask whether what the images were built on is something else now, and list what to build again')
    .addOption(
      new Option('--announce', 'with --bases: tell the receivers of bases that moved, each movement once')
        .implies({ bases: true })
        .conflicts(['watch', 'pull']),
    )
    .option(
      '--check',
      'ask about every tag; end with exit 4 where a registry disagrees with the ledger or a base moved, 6 where one does not answer',
    )
    .addOption(
      new Option('--pull', 'print the pull references by digest alone, one on each line').conflicts([
        'json',
        'field',
        'watch',
        'bases',
      ]),
    )
    .addOption(
      new Option('--watch', 'show it again every five seconds, until Ctrl-C').conflicts(['json', 'field', 'check']),
    )
    .addOption(
      new Option(
        '--running <text...>',
        'show what runs too, by the digests and references in a text: FILE or - with one environment, or ENV=FILE; with --check, exit 4 where something else than what is served runs',
      ).conflicts(['watch', 'pull', 'announce']),
    )
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseChangesOption())
    .action(async (environments, { check, watch, pull, running: texts = [], ...options }) => {
      const { readRunningTexts, status } = await import('../../operations/status');
      const { pullView, statusView } = await import('../views/status');
      const { statusesView } = await import('../views/statuses');
      const everyTag = check === true;
      if (watch === true) {
        return watchStatus(options, () => status({ environments, everyTag, ...options, secrets: knownSecrets }));
      }
      const running = await readRunningTexts(texts, environments);
      const done = await answerForProducts(
        options,
        (run) => status({ environments, everyTag, running, ...options, ...run }),
        (found, screen) => (pull === true ? pullView(found) : statusView(found, screen, new Date())),
        // What is listed of each product stays with its name.
        pull === true || options.growth === true
          ? undefined
          : (all, screen) =>
              statusesView(
                all.map(({ result }) => result),
                screen,
                new Date(),
              ),
      );
      if (check === true) {
        await endWithDrift(done.map(({ result }) => result));
      }
    });
}

/** Milliseconds between two looks. */
const watchInterval = 5_000;

/** Shows the status again and again. That it cannot be known for a while is shown, and no end. */
async function watchStatus(options: OutputOptions, screen: () => Promise<StatusResult>): Promise<void> {
  const { showAgain } = await import('../watch');
  const { statusView } = await import('../views/status');
  const { styleFor } = await import('../views/style');
  const { errorView } = await import('../views/error');
  const style = styleFor(process.stdout, options);
  await showAgain(async () => {
    try {
      return await textOf((found, how) => statusView(found, how, new Date()), await screen(), options, {
        style,
        elapsed: 0,
      });
    } catch (error) {
      return errorView(await errorOf(error), style);
    }
  }, watchInterval);
}

/** Drift goes before what is not known: it is certain. */
async function endWithDrift(results: readonly StatusResult[]): Promise<void> {
  const { hasDrifted, runsOtherwise } = await import('../../results/status-rows');
  const components = results.flatMap(({ environments }) => environments.flatMap((each) => each.components));
  const bases = results.flatMap((each) => each.bases ?? []);
  const served = components.flatMap(({ lines, ...each }) => [each, ...lines]);
  if (results.some(runsOtherwise) || served.some(hasDrifted) || bases.some(({ state }) => state === 'moved')) {
    process.exitCode = exitCodes.missing;
  } else if ([...served.map(({ drift }) => drift), ...bases].some(({ state }) => state === 'unknown')) {
    process.exitCode = exitCodes.unavailable;
  }
}
