import type { CommandUnknownOpts, Option } from '@commander-js/extra-typings';

/** Names that only a product knows. */
export interface ProductNames {
  readonly environments: readonly string[];
  readonly components: readonly string[];
  readonly versions: readonly string[];
}

/** Which names an argument or the value of an option takes, by what it is called. */
const kinds: ReadonlyMap<string, readonly (keyof ProductNames)[]> = new Map([
  ['env', ['environments']],
  ['in', ['environments']],
  ['for', ['environments']],
  ['what', ['environments', 'versions']],
  ['component', ['components']],
  ['only', ['components']],
  ['version', ['versions']],
  ['to', ['environments', 'versions']],
  ['from', ['environments', 'versions']],
  ['release', ['versions']],
]);

/**
 * What may come next on a command line: commands, options, or names of the product.
 *
 * @param words The words after `hod`, the last of which is being typed, and may be empty.
 */
export function completionsOf(program: CommandUnknownOpts, words: readonly string[], names: ProductNames): string[] {
  const typed = words.at(-1) ?? '';
  let command = program;
  let place = 0;
  let asked: Option | undefined;
  for (const word of words.slice(0, -1)) {
    if (asked !== undefined) {
      asked = undefined;
    } else if (word.startsWith('-')) {
      const option = optionNamed(command, word);
      asked = option !== undefined && (option.required || option.optional) ? option : undefined;
    } else {
      const next = command.commands.find((each) => each.name() === word);
      [command, place] = next === undefined ? [command, place + 1] : [next, 0];
    }
  }
  return candidates(command, place, asked, typed, names)
    .filter((each) => each.startsWith(typed))
    .sort();
}

function optionNamed(command: CommandUnknownOpts, word: string): Option | undefined {
  return word.includes('=') ? undefined : command.options.find(({ long, short }) => word === long || word === short);
}

function candidates(
  command: CommandUnknownOpts,
  place: number,
  asked: Option | undefined,
  typed: string,
  names: ProductNames,
): readonly string[] {
  if (asked !== undefined) {
    return asked.argChoices ?? namesOf(asked.attributeName(), names);
  }
  if (typed.startsWith('-')) {
    return command.options.filter(({ hidden }) => !hidden).flatMap(({ long }) => long ?? []);
  }
  if (command.commands.length > 0) {
    // What was typed before is no command: nothing fits behind it.
    return place > 0 ? [] : command.commands.map((each) => each.name());
  }
  const { registeredArguments: all } = command;
  const argument = all[place] ?? all.filter(({ variadic }) => variadic).at(-1);
  return argument === undefined ? [] : (argument.argChoices ?? namesOf(argument.name(), names));
}

function namesOf(name: string, names: ProductNames): string[] {
  return (kinds.get(name) ?? []).flatMap((kind) => names[kind]);
}

/** The shells that complete command lines. */
export const shells = ['bash', 'zsh', 'fish'] as const;

/** What a shell reads to complete `hod`. Where nothing of ours fits, it offers files. */
export function scriptFor(shell: (typeof shells)[number]): string {
  switch (shell) {
    case 'bash':
      return `_hod() {
  local IFS=$'\\n'
  COMPREPLY=($(hod completion next -- "\${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null))
}
complete -o default -F _hod hod`;
    case 'zsh':
      return `#compdef hod
_hod() {
  local -a found
  found=("\${(@f)$(hod completion next -- "\${words[@]:1:$((CURRENT-1))}" 2>/dev/null)}")
  [[ -n "\${found[1]}" ]] && compadd -- "\${found[@]}" || _files
}
compdef _hod hod`;
    case 'fish':
      return `complete -c hod -a '(hod completion next -- (commandline -opc)[2..-1] (commandline -ct) 2>/dev/null)'`;
  }
}
