import { Command } from '@commander-js/extra-typings';
import { accessCommand } from './commands/access';
import { adoptCommand } from './commands/adopt';
import { announceCommand } from './commands/announce';
import { assembleCommand } from './commands/assemble';
import { boardCommand } from './commands/board';
import { carryCommand } from './commands/carry';
import { compareCommand } from './commands/compare';
import { completionCommand } from './commands/completion';
import { configCommand } from './commands/config';
import { demoCommand } from './commands/demo';
import { identifyCommand } from './commands/identify';
import { initCommand } from './commands/init';
import { insideCommand } from './commands/inside';
import { ledgerCommand } from './commands/ledger';
import { packCommand } from './commands/pack';
import { pointCommand } from './commands/point';
import { promoteCommand } from './commands/promote';
import { proveCommand } from './commands/prove';
import { publishCommand } from './commands/publish';
import { recordCommand } from './commands/record';
import { repositoriesCommand } from './commands/repositories';
import { restoreCommand } from './commands/restore';
import { tidyCommand } from './commands/tidy';
import { rollbackCommand } from './commands/rollback';
import { sandboxCommand } from './commands/sandbox';
import { showCommand } from './commands/show';
import { stageCommand } from './commands/stage';
import { statusCommand } from './commands/status';
import { tagsCommand } from './commands/tags';
import { timelineCommand } from './commands/timeline';
import { touchedCommand } from './commands/touched';
import { unpackCommand } from './commands/unpack';
import { inOurWords } from './options';

/** All commands, in the order of a release engineer's day. Loads nothing that one command alone needs. */
export function buildProgram(version: string): Command {
  const program = inOurWords(new Command('hod'))
    .description(
      'Publishes container images with commit and version tags, assembles multi-architecture indexes, ' +
        'and promotes the same digests from environment to environment.',
    )
    .version(version, '--version', 'print the version of Hod')
    .helpCommand('help [command]', 'print help about a command')
    .enablePositionalOptions()
    .addHelpText(
      'after',
      '\nBegin with `hod init` in your product, or with `hod demo`: it runs the whole day on a sample product.',
    );
  const commands = [
    initCommand(),
    configCommand(),
    accessCommand(),
    touchedCommand(),
    stageCommand(),
    publishCommand(),
    adoptCommand(),
    assembleCommand(),
    carryCommand(),
    packCommand(),
    unpackCommand(),
    recordCommand(),
    promoteCommand(),
    rollbackCommand(),
    restoreCommand(),
    statusCommand(),
    timelineCommand(),
    compareCommand(),
    identifyCommand(),
    proveCommand(),
    tidyCommand(),
    pointCommand(),
    showCommand(),
    insideCommand(),
    tagsCommand(),
    repositoriesCommand(),
    boardCommand(),
    announceCommand(),
    ledgerCommand(),
    completionCommand(),
    sandboxCommand(),
    demoCommand(),
  ];
  commands.forEach((each) => program.addCommand(each));
  return program;
}
