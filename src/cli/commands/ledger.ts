import { Command } from '@commander-js/extra-typings';
import { answer } from '../answer';
import { command, configOption } from '../options';

/** `hod ledger`. */
export function ledgerCommand() {
  return new Command('ledger')
    .description('check the record of the product, and carry it elsewhere')
    .helpOption('-h, --help', 'print help')
    .addCommand(verifyCommand())
    .addCommand(exportCommand())
    .addCommand(importCommand());
}

function verifyCommand() {
  return command('verify', 'is every entry as it was written, and do they add up to what the ledger says?', [
    ['hod ledger verify', 'reads all of it'],
  ])
    .addOption(configOption())
    .action(async (options) => {
      const { verifyLedger } = await import('../../operations/ledger');
      const { ledgerView } = await import('../views/ledger');
      await answer(options, () => verifyLedger({ ...options, jobs: 1 }), ledgerView);
    });
}

function exportCommand() {
  return command('export', 'write every entry to a file, as JSON lines', [
    ['hod ledger export ledger.jsonl', 'a copy to keep, or to import elsewhere'],
  ])
    .argument('<file>', 'the file to write')
    .addOption(configOption())
    .action(async (file, options) => {
      const { exportLedger } = await import('../../operations/ledger');
      const { exportView } = await import('../views/ledger');
      await answer(options, () => exportLedger({ file, ...options, jobs: 1 }), exportView);
    });
}

function importCommand() {
  return command('import', 'add the entries of a file to the ledger; those that are there are passed over', [
    ['hod ledger import ledger.jsonl', 'from a file into PostgreSQL, say'],
  ])
    .argument('<file>', 'what `hod ledger export` wrote')
    .addOption(configOption())
    .action(async (file, options) => {
      const { importLedger } = await import('../../operations/ledger');
      const { importView } = await import('../views/ledger');
      await answer(options, () => importLedger({ file, ...options, jobs: 1 }), importView);
    });
}
