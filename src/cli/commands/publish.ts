import { Option } from '@commander-js/extra-typings';
import { exitCodes } from '../../core/errors';
import { versionParts } from '../../core/tags/version-part';
import type { PublishResult } from '../../results/publish';
import { endUnmet } from '../answer';
import {
  actorOption,
  afterRewriteOption,
  newWayInOption,
  againOption,
  command,
  commitOption,
  configsOption,
  dryRunOption,
  jobsOption,
  onlyOption,
  outputsOption,
  parseDuration,
  quietOption,
  reasonOption,
  strictOrderOption,
  summaryOption,
  verboseBuildOption,
} from '../options';
import { answerForProducts } from '../products';

/** `hod publish`. */
export function publishCommand() {
  return command('publish', 'upload missing content to the first environment, assemble indexes, and write tags', [
    ['hod publish', 'commit, branch and version (from a tag such as v2.4.0) as git says'],
    ['hod publish --version 2.4.0', 'publish as this version'],
    ['hod publish --next minor', 'take the next version from the ledger'],
    ['hod publish --next minor --git-tag', 'and write it to the git remote as a tag'],
    ['hod publish --next patch --line 2.3', 'the same on a maintenance branch, for 2.3.x'],
    ['hod publish --only timetable --next patch', 'one component, where hod.yaml says `publish-alone: true`'],
    [
      'hod publish --from timetable=build.registry.test/skerry/timetable:c-1f2e3d4c5b6a',
      'an image that its builder pushed: the same digest',
    ],
    [
      'hod publish --parcel skerry-2.4.0.tar --trust-parcel --reason "the courier is known"',
      'a release from elsewhere',
    ],
    ['hod publish --wait 10m --strict-order', 'wait for what other jobs stage; refuse to come late'],
    ['hod publish --summary "$SUMMARY" --outputs "$OUTPUTS"', 'tell the CI what was done'],
    ['hod publish --after-rewrite --reason "rebased"', 'the branch was rewritten: go on with this build'],
    ["hod publish -c 'services/*/hod.yaml' --next patch", 'every product of the repository, one after the other'],
    ['hod publish --mend', 'send again what the registry has lost of it'],
    ['hod publish --dry-run', 'what would be sent and tagged?'],
    ['hod publish --field components.timetable.digest', 'one digest, for the next step'],
  ])
    .argument('[component...]', 'the components to publish (default: all)')
    .addOption(onlyOption('publish'))
    .addOption(configsOption())
    .option('--version <version>', 'publish as this version (default: from a git tag of the commit)')
    .addOption(
      new Option('--next <part>', `take the next version from the ledger: ${versionParts.join(', ')}`).choices(
        versionParts,
      ),
    )
    .option('--line <line>', 'with --next: stay on this line of versions, such as 2.3, for a maintenance branch')
    .option('--git-tag', 'write the version as an annotated tag to the git remote, after the ledger has it')
    .addOption(commitOption())
    .option('--branch <name>', 'the branch that was built (default: from the CI, or the checkout)')
    .option('--build <number>', 'the build number (default: from the CI)')
    .option('--run-url <url>', 'the URL of the CI run (default: from the CI)')
    .option(
      '--from <image=place...>',
      'take build outputs of an image from a path, registry/name:tag, or - for standard input (default: as in hod.yaml)',
    )
    .option('--parcel <file>', 'publish the release in a parcel of `hod pack`, with its version, commit and branch')
    .option('--trust-parcel', 'trust a parcel that no trusted key signed; needs --reason')
    .option('--despite-freeze', 'publish a parcel despite a freeze; needs --reason')
    .option('--wait <time>', 'wait this long for components that are not staged yet, such as 10m', parseDuration)
    .addOption(strictOrderOption())
    .option('--mend', 'check all existing content, and upload what the registry has lost')
    .addOption(afterRewriteOption())
    .addOption(newWayInOption())
    .addOption(againOption())
    .addOption(reasonOption('the reason, for options that need one; recorded in the ledger'))
    .addOption(summaryOption())
    .addOption(outputsOption())
    .addOption(actorOption())
    .addOption(dryRunOption())
    .addOption(jobsOption())
    .addOption(quietOption())
    .addOption(verboseBuildOption())
    .action(async (named, { runUrl: run, only = [], ...options }) => {
      const { publish } = await import('../../operations/publish');
      const { publishView } = await import('../views/delivery');
      const { writeForCi } = await import('../ci-files');
      const components = [...named, ...only];
      const done = await answerForProducts(
        options,
        (surroundings) => publish({ components, ...options, run, ...surroundings }),
        publishView,
      );
      for (const { config, result } of done) {
        await writeForCi(options, result, { several: config !== undefined });
        endUnmet(result.gates);
        endUntagged(result.gitTag);
      }
    });
}

/** Ends with the fault of a git tag that was not written: everything else is done. */
function endUntagged(gitTag: PublishResult['gitTag']): void {
  if (gitTag?.outcome === 'refused') {
    process.exitCode = exitCodes.refused;
  } else if (gitTag?.outcome === 'failed') {
    process.exitCode = exitCodes.unavailable;
  }
}
