import { Argument } from '@commander-js/extra-typings';
import { completionsOf, scriptFor, shells } from '../completions';
import { tellingCommand } from '../options';
import { say } from '../streams';

/** `hod completion`. */
export function completionCommand() {
  return tellingCommand('completion', 'print the completion script of a shell', [
    ['source <(hod completion bash)', 'in ~/.bashrc; zsh the same, in ~/.zshrc after compinit'],
    ['hod completion fish > ~/.config/fish/completions/hod.fish', 'for fish'],
  ])
    .addArgument(
      new Argument('<shell>', `${shells.join(', ')}; or next, which tells the shell what may come next`).choices([
        ...shells,
        'next',
      ]),
    )
    .argument('[words...]', 'with next: the words after `hod`, the last of which is being typed')
    .action(async (shell, words, _, own) => {
      if (shell !== 'next') {
        say(scriptFor(shell));
        return;
      }
      const { productNames } = await import('../../operations/product-names');
      const found = own.parent === null ? [] : completionsOf(own.parent, words, await productNames());
      if (found.length > 0) {
        say(found.join('\n'));
      }
    });
}
