import { answer } from '../answer';
import { command, configOption, parseCount, quietOption, requestsOption, verboseOption } from '../options';

/** `hod repositories`. */
export function repositoriesCommand() {
  return command('repositories', 'list the repositories of a registry', [
    ['hod repositories registry.test', 'all of them'],
    ["hod repositories registry.test --find 'skerry/**'", 'those that match'],
    ['hod repositories registry.test --field repositories', 'the names alone'],
  ])
    .argument('<host>', 'the registry, with its port if it has one')
    .option('--find <pattern>', 'only names that match, such as skerry/**')
    .option('--most <n>', 'list at most this many (default: 9999)', parseCount, 9_999)
    .addOption(configOption())
    .addOption(requestsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (registry, options) => {
      const { repositories } = await import('../../operations/repositories');
      const { repositoriesView } = await import('../views/tags');
      await answer(options, (run) => repositories({ registry, ...options, ...run }), repositoriesView);
    });
}
