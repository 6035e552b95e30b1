import { exitCodes } from '../../core/errors';
import type { ProveResult } from '../../results/prove';
import { answer } from '../answer';
import { command, configOption, jobsOption, quietOption, verboseOption } from '../options';

/** `hod prove`. */
export function proveCommand() {
  return command('prove', 'prove that ENV serves what was published and tested, or say what is not so', [
    ['hod prove prod', 'is everything there, and nothing moved by hand?'],
    ['hod prove prod --deep', 'read and hash every byte'],
    ['hod prove --all', 'every environment'],
    ['hod prove prod --field environments.prod.findings.detail', 'what is wrong, a line each; empty where nothing is'],
  ])
    .argument('[env...]', 'the environments')
    .option('--all', 'every environment')
    .option('--deep', 'read and hash every byte, instead of asking whether it is there')
    .addOption(configOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (environments, options) => {
      const { prove } = await import('../../operations/prove');
      const { proveView } = await import('../views/prove');
      endWithFindings(await answer(options, (run) => prove({ environments, ...options, ...run }), proveView));
    });
}

/** What is not what it should be goes before what is not there. */
function endWithFindings({ environments }: ProveResult): void {
  const found = environments.flatMap(({ findings }) => findings.map(({ finding }) => finding));
  if (found.includes('content-changed')) {
    process.exitCode = exitCodes.corrupt;
  } else if (found.length > 0) {
    process.exitCode = exitCodes.missing;
  }
}
