import { answer, observing } from '../answer';
import { tellFailures } from '../products';
import { command, configsOption, quietOption, requestsOption, verboseOption } from '../options';

/** `hod board`. */
export function boardCommand() {
  return command(
    'board',
    'write an HTML page: what environments serve, how releases move, how long it takes, and the ledger',
    [
      ['hod board', 'writes board.html'],
      ['hod board --out public/index.html', 'for the pages of a CI'],
      ['hod board --ledger-only', 'asks no registry: neither drift nor sizes'],
      ['hod board --field file', 'where the page was written'],
      ["hod board -c 'services/*/hod.yaml'", 'one page of several products'],
    ],
  )
    .option('--out <file>', 'write it there (default: board.html)', 'board.html')
    .option('--ledger-only', 'ask no registry')
    .addOption(configsOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async ({ out, ...options }) => {
      const { board, boards } = await import('../../operations/board');
      const { configsNamed } = await import('../../operations/products');
      const { writeBoard } = await import('../board-file');
      const { boardsView, boardView } = await import('../views/board');
      const configs = options.config === undefined ? undefined : await configsNamed(options.config);
      if (configs !== undefined) {
        const { data, failures } = await observing(options, (run) => boards(configs, { ...options, ...run }));
        await answer(options, () => writeBoard(data, out), boardsView);
        return tellFailures(failures, options);
      }
      await answer(options, async (run) => writeBoard(await board({ ...options, ...run }), out), boardView);
    });
}
