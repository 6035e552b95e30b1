import { exitCodes } from '../../core/errors';
import type { ProveResult } from '../../results/prove';
import { command, configsOption, jobsOption, quietOption, verboseOption } from '../options';
import { answerForProducts } from '../products';

/** `hod prove`. */
export function proveCommand() {
  return command('prove', 'prove that ENV serves the digests that were published and tested', [
    ['hod prove prod', 'is everything there, and nothing moved by hand?'],
    ['hod prove prod --deep', 'read and hash every byte'],
    ['hod prove --all', 'every environment'],
    ["hod prove prod -c 'services/*/hod.yaml'", 'of several products'],
    ['hod prove prod --field environments.prod.findings.detail', 'what is wrong, a line each; empty where nothing is'],
  ])
    .argument('[env...]', 'the environments')
    .option('--all', 'every environment')
    .option('--deep', 'read and hash every byte, instead of asking whether it is there')
    .addOption(configsOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (environments, options) => {
      const { prove } = await import('../../operations/prove');
      const { proveView } = await import('../views/prove');
      const done = await answerForProducts(options, (run) => prove({ environments, ...options, ...run }), proveView);
      endWithFindings(done.map(({ result }) => result));
    });
}

/** What is not what it should be goes before what is not there. */
function endWithFindings(results: readonly ProveResult[]): void {
  const environments = results.flatMap((each) => each.environments);
  const found = environments.flatMap(({ findings }) => findings.map(({ finding }) => finding));
  if (found.includes('content-changed')) {
    process.exitCode = exitCodes.corrupt;
  } else if (found.length > 0) {
    process.exitCode = exitCodes.missing;
  }
}
