import { answer } from '../answer';
import { command, configOption, quietOption, requestsOption, verboseOption } from '../options';

/** `hod board`. */
export function boardCommand() {
  return command('board', 'write a page: what is served, how releases flow, how long it takes, and the whole ledger', [
    ['hod board', 'writes board.html'],
    ['hod board --out public/index.html', 'for the pages of a CI'],
    ['hod board --ledger-only', 'asks no registry: neither drift nor sizes'],
    ['hod board --field file', 'where the page was written'],
  ])
    .option('--out <file>', 'write it there (default: board.html)', 'board.html')
    .option('--ledger-only', 'ask no registry')
    .addOption(configOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async ({ out, ...options }) => {
      const { board } = await import('../../operations/board');
      const { writeBoard } = await import('../board-file');
      const { boardView } = await import('../views/board');
      await answer(options, async (run) => writeBoard(await board({ ...options, ...run }), out), boardView);
    });
}
