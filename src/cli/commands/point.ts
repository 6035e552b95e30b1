import { exitCodes } from '../../core/errors';
import { answer } from '../answer';
import { command, configsOption, quietOption, verboseOption } from '../options';

/** `hod point`. */
export function pointCommand() {
  return command('point', 'update image references in deployment files to the digests that ENV serves', [
    ['hod point prod deploy/prod/*.yaml', 'after a promotion'],
    ['hod point prod deploy/prod/*.yaml --check', 'in CI: exit 3 and a diff where a file is stale'],
    ['hod point prod deploy.yaml --field files.changes.to', 'the new references'],
    ["hod point prod deploy/*.yaml -c 'services/*/hod.yaml'", 'of several products in the same files'],
  ])
    .argument('<env>', 'the environment')
    .argument('<file...>', 'deployment files: YAML, JSON, or any text')
    .option('--check', 'write nothing; exit with 3 if a file is stale or points into another environment')
    .addOption(configsOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (environment, files, options) => {
      const { pointFiles } = await import('../../operations/point');
      const { pointView } = await import('../views/point');
      const result = await answer(options, (run) => pointFiles({ environment, files, ...options, ...run }), pointView);
      const isAmiss = result.files.some(
        ({ changes, left, unclear }) => changes.length + left.length + unclear.length > 0,
      );
      if (result.check && isAmiss) {
        process.exitCode = exitCodes.refused;
      }
    });
}
