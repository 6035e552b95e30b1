import { tellingCommand } from '../options';

/** `hod demo`. */
export function demoCommand() {
  return tellingCommand('demo', 'run the whole day on a sample product, in one go', [
    ['hod demo', 'in a temporary folder'],
    ['hod demo --folder /tmp/skerry --keep-running', 'and go on by hand'],
  ])
    .option('--folder <dir>', 'make everything here (default: a new temporary folder)')
    .option('--keep-running', 'keep the registries running until Ctrl-C', false)
    .action(async (options) => {
      const { runDemo } = await import('../demo');
      await runDemo(options);
    });
}
