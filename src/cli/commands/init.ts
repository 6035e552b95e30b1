import { answer } from '../answer';
import { command, dryRunOption } from '../options';

/** `hod init`. */
export function initCommand() {
  return command('init', 'write a hod.yaml for this folder, and print the next commands', [
    ['hod init --registry registry.test/skerry', 'releases go to this registry'],
    ["hod init --registry 'registry.test/{environment}/skerry/{image}'", 'the repositories that are there already'],
    ['hod init --dry-run', 'print it, and write nothing'],
    ['hod init --dry-run --field images.name', 'the images that were found'],
  ])
    .option('-c, --config <file>', 'write this file (default: hod.yaml in this folder)')
    .option(
      '--registry <place>',
      'the registry that releases go to, with a path where it has one; {environment} and {image} may stand in it (default: that of `hod sandbox`, on this machine)',
    )
    .addOption(dryRunOption())
    .action(async (options) => {
      const { init } = await import('../../operations/init');
      const { initView } = await import('../views/init');
      await answer(options, () => init(options), initView);
    });
}
