import { exitCodes } from '../../core/errors';
import { answer } from '../answer';
import { command, configsOption, quietOption, requestsOption, verboseChangesOption } from '../options';

/** `hod identify`. */
export function identifyCommand() {
  return command('identify', 'find the release of a digest, a commit or a text, and where it is served', [
    ['hod identify', 'is the commit that is checked out in prod yet?'],
    ['hod identify v2.4.0~3 feature/piers', 'the same of other commits'],
    ['hod identify sha256:1a2b3c4d5e6f', 'a digest of a node, a log or a scan: index, image, config or referrer'],
    ['hod identify - --in prod < nodes.txt', 'is what runs what prod serves? exit 4 where it is not'],
    ['hod identify incident.log --markdown', 'all references and digests of a log, for a report'],
    ['hod identify - --in prod --field allServed < nodes.txt', 'true or false'],
  ])
    .argument(
      '[what...]',
      'digests, references, commits, tags or versions; texts that hold them: files, or - (default: HEAD)',
    )
    .option('--in <env>', 'exit with 4 unless this environment serves everything that is found')
    .option('--markdown', 'answer with Markdown')
    .addOption(configsOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseChangesOption())
    .action(async (what, { in: environment, markdown, ...options }) => {
      const { identify } = await import('../../operations/identify');
      const { identifyMarkdown, identifyView } = await import('../views/identify');
      const { allServed } = await answer(
        options,
        (run) => identify({ what, environment, ...options, ...run }),
        (found, screen) =>
          markdown === true ? identifyMarkdown(found, new Date()) : identifyView(found, screen, new Date()),
      );
      if (allServed === false) {
        process.exitCode = exitCodes.missing;
      }
    });
}
