import { answer } from '../answer';
import { command, configOption, dryRunOption, quietOption, requestsOption, verboseOption } from '../options';

/** `hod pack`. */
export function packCommand() {
  return command('pack', 'write a release or images into a file or folder: an OCI image layout, with referrers', [
    ['hod pack prod --out skerry.tar', 'what prod serves, with its referrers and what the ledger says of it'],
    ['hod pack 2.4.0 --out skerry-2.4.0.tar --dry-run', 'how large will it be?'],
    [
      'hod pack prod --out next.tar --since skerry.tar',
      'without the layers that the other side has from an earlier parcel',
    ],
    ['hod pack registry.test/skerry/timetable:2.4.0 --out timetable', 'one image, into a folder; needs no hod.yaml'],
    ['hod pack prod --out release.tar --field contents.digest', 'the digests that it holds'],
  ])
    .argument('<what...>', 'an environment, a version or a commit; or references and build outputs')
    .requiredOption('--out <place>', 'the file to write, whose name ends with .tar; or a folder')
    .option('--since <release>', 'leave out the layers of a version, a commit or a parcel that the other side has')
    .addOption(configOption())
    .addOption(dryRunOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (what, options) => {
      const { pack } = await import('../../operations/pack');
      const { packView } = await import('../views/pack');
      await answer(options, (run) => pack({ what, ...options, ...run }), packView);
    });
}
