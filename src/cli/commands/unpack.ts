import { answer } from '../answer';
import { command, configOption, dryRunOption, quietOption, requestsOption, verboseOption } from '../options';

/** `hod unpack`. */
export function unpackCommand() {
  return command('unpack', 'write the files of a bundle, or of another artifact, into a folder', [
    ['hod unpack prod deploy', 'the files of each bundle that prod serves, each bundle in a folder of its own'],
    ['hod unpack registry.test/skerry/fare-tables:2.4.0 fares', 'one bundle; needs no hod.yaml'],
    ['hod unpack skerry.tar#fare-tables fares', 'one bundle of a parcel'],
    ['hod unpack registry.test/skerry/fare-tables:2.4.0 fares --field contents.files', 'how many files it holds'],
  ])
    .argument('<what>', 'a reference or a parcel; or an environment, a version or a commit')
    .argument('<folder>', 'the folder to write: a new one, or one that holds these files already')
    .addOption(configOption())
    .addOption(dryRunOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (what, folder, options) => {
      const { unpack } = await import('../../operations/unpack');
      const { unpackView } = await import('../views/unpack');
      await answer(options, (run) => unpack({ what, folder, ...options, ...run }), unpackView);
    });
}
