import type { CommanderError } from '@commander-js/extra-typings';
import { type CommandUnknownOpts } from '@commander-js/extra-typings';
import { HodError } from '../core/errors';
import { nearestName } from '../core/nearest';
import type { Text } from '../core/text';

/** What is wrong with a command line, in our words. */
interface Finding {
  what: string;
  object?: string | undefined;
  why: Text;
}

/** Makes a command, and all below it, throw what is wrong with a command line as an error of ours. */
export function throwUsageErrors(command: CommandUnknownOpts): void {
  command
    .showSuggestionAfterError(false)
    .configureOutput({ writeErr: () => undefined })
    .exitOverride((error) => {
      throw error.exitCode === 0 ? error : usageError(error, command);
    });
  command.commands.forEach(throwUsageErrors);
}

function usageError(error: CommanderError, command: CommandUnknownOpts): HodError {
  const line = lineOf(command);
  const { what, object, why } = describe(error, command);
  const next =
    command.commands.length === 0
      ? `\`${line} --help\` lists its options, with examples`
      : `\`${line} --help\` lists the commands, and \`${line} COMMAND --help\` the options of one`;
  return new HodError('command-line', { what, object: object ?? line, why, next });
}

/** The parser tells what is wrong by a code, and the names in quotes. */
function describe({ code, message }: CommanderError, command: CommandUnknownOpts): Finding {
  const [first = '', second = ''] = [...message.matchAll(/'([^']*)'/g)].map(([, name = '']) => name);
  switch (code) {
    case 'commander.help':
      return { what: 'no command was given', why: commandsOf(command) };
    case 'commander.unknownCommand':
      return {
        what: 'there is no such command',
        object: first,
        why: similarOr(first, namesOf(command), commandsOf(command)),
      };
    case 'commander.unknownOption':
      return {
        what: 'there is no such option',
        object: first,
        why: first.startsWith('-#')
          ? `an image on standard input stands after \`--\`: ${lineOf(command)} -- ${first}`
          : similarOr(
              first,
              optionsOf(command),
              command.commands.length > 0 ? commandsOf(command) : `${lineOf(command)} has none of this name`,
            ),
      };
    case 'commander.missingArgument':
      return { what: 'an argument is missing', why: argumentText(command, first) };
    case 'commander.optionMissingArgument':
      return { what: 'an option has no value', object: first, why: optionText(command, first) };
    case 'commander.missingMandatoryOptionValue':
      return { what: 'an option is missing', object: first, why: optionText(command, first) };
    case 'commander.invalidArgument':
      return {
        what: 'a value cannot be used',
        object: `${first.split(' ')[0] ?? first} ${second}`,
        why: reasonIn(message),
      };
    case 'commander.excessArguments':
      return {
        what: 'there are too many arguments',
        why: `it takes ${command.registeredArguments.length === 0 ? 'none' : command.usage()}`,
      };
    default:
      return { what: 'this command line cannot be read', why: message.replace(/^error: /, '') };
  }
}

/** `hod access check`. */
function lineOf(command: CommandUnknownOpts): string {
  return command.parent === null ? command.name() : `${lineOf(command.parent)} ${command.name()}`;
}

function namesOf(command: CommandUnknownOpts): string[] {
  return command.commands.map((each) => each.name());
}

/** Each command below one, on a line of its own, with its summary. */
function commandsOf(command: CommandUnknownOpts): Text {
  const width = Math.max(...namesOf(command).map((name) => name.length));
  return command.commands.map((each) => `${each.name().padEnd(width)}  ${each.description()}`);
}

function optionsOf(command: CommandUnknownOpts): string[] {
  return command.options.flatMap(({ long }) => (typeof long === 'string' ? [long] : []));
}

function similarOr(name: string, known: readonly string[], otherwise: Text): Text {
  const nearest = nearestName(name, known);
  return nearest === undefined ? otherwise : `similar: ${nearest}`;
}

function argumentText(command: CommandUnknownOpts, name: string): string {
  const found = command.registeredArguments.find((each) => each.name() === name);
  return found === undefined ? name : `${name}: ${found.description}`;
}

/** What an option is for. `flags`: as the parser names it, `--jobs <n>`. */
function optionText(command: CommandUnknownOpts, flags: string): string {
  const found = command.options.find((each) => each.flags === flags);
  const choices = found?.argChoices;
  return choices === undefined ? (found?.description ?? flags) : `it takes ${choices.join(', ')}`;
}

/** The reason at the end of the parser's message: ours, or the list of what may stand there. */
function reasonIn(message: string): string {
  const reason = message.slice(message.indexOf(' is invalid') + ' is invalid'.length).replace(/^[^.]*\. /, '');
  const choices = /^Allowed choices are (.*)\.$/.exec(reason)?.[1];
  return choices === undefined ? reason : `it must be one of ${choices}`;
}
