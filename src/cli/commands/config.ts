import { answer } from '../answer';
import { command, configOption, group, tellingCommand } from '../options';
import { printDocument } from '../streams';

/** `hod config`. */
export function configCommand() {
  return group('config', 'check, print and compare hod.yaml')
    .addCommand(checkCommand())
    .addCommand(showCommand())
    .addCommand(compareCommand())
    .addCommand(schemaCommand());
}

function checkCommand() {
  return command('check', 'check hod.yaml, and report every error in it', [
    ['hod config check', 'hod.yaml in this folder'],
    ['hod config check -c services/hod.yaml', 'another'],
    ['hod config check --without-variables', 'where the variables of the jobs are not known'],
    ['hod config check --field warnings', 'the warnings alone'],
  ])
    .option('--without-variables', 'check everything but the values of `variables`')
    .addOption(configOption())
    .action(async (options) => {
      const { checkConfig } = await import('../../operations/config-check');
      const { configView } = await import('../views/config');
      await answer(options, (run) => checkConfig({ ...options, ...run }), configView);
    });
}

function showCommand() {
  return command('show', 'print the resolved configuration: followed branches, gates, repositories, tags', [
    ['hod config show', 'hod.yaml in this folder'],
    ['hod config show --branch feature/x', 'with the tags that builds of this branch get'],
    ['hod config show --json', 'for a script'],
    ['hod config show --field environments.prod.components.repository', 'the repositories of prod'],
  ])
    .addOption(configOption())
    .option('--branch <name>', 'show the tags that builds of this branch get')
    .action(async (options) => {
      const { showConfig } = await import('../../operations/config-show');
      const { configShowView } = await import('../views/config');
      await answer(options, () => showConfig(options), configShowView);
    });
}

function compareCommand() {
  return command('compare', 'compare the rules of this hod.yaml with the rules in force', [
    ['hod config compare', 'for each environment'],
    ['hod config compare prod', 'for prod alone: what a review should see'],
    ['hod config compare --field environments.accepted', 'whether promotions from here would be judged by them'],
  ])
    .argument('[env...]', 'the environments (default: all)')
    .addOption(configOption())
    .action(async (environments, options) => {
      const { compareConfig } = await import('../../operations/config-compare');
      const { configCompareView } = await import('../views/config');
      await answer(options, (run) => compareConfig({ environments, ...options, ...run }), configCompareView);
    });
}

function schemaCommand() {
  return tellingCommand('schema', 'print the JSON Schema of hod.yaml, for editors', [
    ['hod config schema > hod.schema.json', 'then name it in the settings of your editor'],
    ['hod config schema | grep -c \'"type"\'', 'or read it with a script'],
  ]).action(async () => {
    const { configJsonSchema } = await import('../../operations/config-schema');
    await printDocument(JSON.stringify(configJsonSchema(), undefined, 2));
  });
}
