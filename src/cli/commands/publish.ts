import { Option } from '@commander-js/extra-typings';
import { versionParts } from '../../core/tags/version';
import { answer } from '../answer';
import {
  actorOption,
  command,
  commitOption,
  configOption,
  dryRunOption,
  jobsOption,
  outputsOption,
  parseDuration,
  quietOption,
  strictOrderOption,
  summaryOption,
  verboseOption,
} from '../options';

/** `hod publish`. */
export function publishCommand() {
  return command('publish', 'upload what the first environment lacks, assemble indexes, and write the tags', [
    ['hod publish', 'commit, branch and version (from a tag such as v2.4.0) as git says'],
    ['hod publish --version 2.4.0', 'publish as this version'],
    ['hod publish --next minor', 'take the next version from the ledger'],
    ['hod publish --wait 10m', 'wait for what other jobs are still staging'],
    ['hod publish --dry-run', 'what would be sent and tagged?'],
  ])
    .addOption(configOption())
    .option('--version <version>', 'the version (default: the git tag of the commit, if it is one)')
    .addOption(new Option('--next <part>', 'take the next version from the ledger').choices(versionParts))
    .option('--line <line>', 'with --next: of which line of versions, such as 2.3, for a maintenance branch')
    .addOption(commitOption())
    .option('--branch <name>', 'the branch that was built (default: what the CI says, or is checked out)')
    .option('--build <number>', 'the number of the build (default: what the CI says)')
    .option('--run-url <url>', 'where the run can be looked at (default: what the CI says)')
    .option('--only <image...>', 'these alone, where hod.yaml allows it with `alone: true`')
    .option('--wait <time>', 'how long to wait for what is still to be staged, such as 10m', parseDuration)
    .addOption(strictOrderOption())
    .addOption(summaryOption())
    .addOption(outputsOption())
    .addOption(actorOption())
    .addOption(dryRunOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async ({ runUrl: run, ...options }) => {
      const { publish } = await import('../../operations/publish');
      const { publishView } = await import('../views/delivery');
      const { writeForCi } = await import('../ci-files');
      const result = await answer(options, (observer) => publish({ ...options, run, observer }), publishView);
      await writeForCi(options, result);
    });
}
