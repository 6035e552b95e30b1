import { answer } from '../answer';
import { command, configOption, dryRunOption, jobsOption, quietOption, verboseOption } from '../options';

/** `hod publish`. */
export function publishCommand() {
  return command('publish', 'upload what the first environment lacks, assemble indexes, and write the tags', [
    ['hod publish', 'commit, branch and version (from a tag such as v2.4.0) as git says'],
    ['hod publish --version 2.4.0', 'publish as this version'],
    ['hod publish --dry-run', 'what would be sent and tagged?'],
  ])
    .addOption(configOption())
    .option('--version <version>', 'the version (default: the git tag of the commit, if it is one)')
    .option('--commit <id>', 'the commit that was built (default: what is checked out)')
    .option('--branch <name>', 'the branch that was built (default: what is checked out)')
    .addOption(dryRunOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (options) => {
      const { publish } = await import('../../operations/publish');
      const { publishView } = await import('../views/delivery');
      await answer(options, (observer) => publish({ ...options, observer }), publishView);
    });
}
