import { answer } from '../answer';
import { command, configOption, parseCount, quietOption, requestsOption, verboseOption } from '../options';
import { print } from '../streams';

/** `hod tags`. */
export function tagsCommand() {
  return command(
    'tags',
    'list tags by what they lead to, the highest version first: age, platforms, commit, who serves it',
    [
      ['hod tags timetable', 'a component of hod.yaml, in each environment'],
      ["hod tags registry.test/skerry/timetable --find '2.4.*'", 'a repository; needs no hod.yaml'],
      ['hod tags registry.test/skerry/timetable --names', 'every name, a line each, as the registry lists them'],
      ['hod tags timetable --field repositories.digests.digest', 'what its tags lead to'],
    ],
  )
    .argument('<component>', 'a component of hod.yaml, or a repository')
    .option('--env <name>', 'only in this environment')
    .option('--find <pattern>', 'only tags that match, such as 2.4.*')
    .option('--most <n>', 'look at this many tags of a repository (default: 40)', parseCount, 40)
    .option('--names', 'print every name and nothing else, without asking for what it leads to')
    .addOption(configOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (of, { env: environment, names, ...options }) => {
      const { listTagNames, tags } = await import('../../operations/tags');
      const { tagsView } = await import('../views/tags');
      const asked = { of, environment, ...options };
      if (names === true) {
        const { knownSecrets } = await import('../known-secrets');
        await listTagNames({ ...asked, secrets: knownSecrets }, (tag) => print(tag));
      } else {
        await answer(
          options,
          (run) => tags({ ...asked, ...run }),
          (result, screen) => tagsView(result, screen, new Date()),
        );
      }
    });
}
