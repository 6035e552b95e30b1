import { Option } from '@commander-js/extra-typings';
import { command, configsOption, quietOption, requestsOption } from '../options';
import { answerForProducts } from '../products';

/** `hod compare`. */
export function compareCommand() {
  return command('compare', 'show what differs between two environments, releases or images', [
    ['hod compare prod uat', 'what would come to prod: commits, components, layers, settings'],
    ["hod compare prod uat -c 'services/*/hod.yaml'", 'of several products'],
    ['hod compare 2.4.0 2.5.0 --markdown', 'for the notes of a release'],
    ['hod compare out/timetable registry.test/skerry/timetable:2.4.0', 'two images, wherever they are'],
    ['hod compare uat prod --field components.component', 'what differs, by name'],
  ])
    .argument('<from>', 'an environment, a version, a commit, a digest, a reference, or the path of a build output')
    .argument('<to>', 'another one')
    .option('--inside', 'read every changed layer, and list the paths that differ')
    .addOption(new Option('--markdown', 'answer with Markdown').conflicts('inside'))
    .option('--verbose', 'show every commit, and what did not change')
    .addOption(configsOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .action(async (from, to, { markdown, ...options }) => {
      const { compare } = await import('../../operations/compare');
      const { compareMarkdown, compareView } = await import('../views/compare');
      await answerForProducts(
        options,
        (run) => compare({ from, to, ...options, ...run }),
        markdown === true ? compareMarkdown : compareView,
      );
    });
}
