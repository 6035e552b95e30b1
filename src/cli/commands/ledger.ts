import { Option } from '@commander-js/extra-typings';
import { exitCodes, HodError } from '../../core/errors';
import type { ImportOptions } from '../../operations/ledger-import';
import type { LedgerResult } from '../../results/ledger';
import { answer } from '../answer';
import {
  actorOption,
  command,
  configOption,
  dryRunOption,
  group,
  parseAge,
  quietOption,
  verboseOption,
} from '../options';

/** `hod ledger`. */
export function ledgerCommand() {
  return group('ledger', 'verify, copy, rebuild and compact the ledger')
    .addCommand(verifyCommand())
    .addCommand(acceptCommand())
    .addCommand(compactCommand())
    .addCommand(exportCommand())
    .addCommand(importCommand())
    .addCommand(rebuildCommand());
}

function verifyCommand() {
  return command('verify', 'verify every entry, and the facts that follow from the entries', [
    ['hod ledger verify', 'reads all of it'],
    ['hod ledger verify -c services/hod.yaml --json', 'of another product, for a script'],
    ['hod ledger verify --compacted old.jsonl', 'also entries that `hod ledger compact` moved into a file'],
    ['hod ledger verify --field entries', 'how many entries there are'],
  ])
    .addOption(compactedOption())
    .addOption(configOption())
    .action(async (options) => {
      const { verifyLedger } = await import('../../operations/ledger-verify');
      const { ledgerView } = await import('../views/ledger');
      endUnsigned(await answer(options, (run) => verifyLedger({ ...options, ...run }), ledgerView));
    });
}

/** Entries that nobody signed who is trusted are refused, though the chain is whole. */
function endUnsigned({ signatures }: LedgerResult): void {
  if (signatures?.unsigned.some(({ accepted }) => accepted === null) === true) {
    process.exitCode = exitCodes.refused;
  }
}

function acceptCommand() {
  return command('accept', 'accept entries that no trusted key signed, in a ledger that is signed', [
    ['hod ledger accept --reason "imported by hand, checked by una" --dry-run', 'which entries would be accepted?'],
    ['hod ledger accept --reason "imported by hand, checked by una"', 'record that you checked them'],
    ['hod ledger accept --reason "checked" --field entries', 'how many entries were accepted'],
  ])
    .requiredOption('--reason <text>', 'why these entries are right; the ledger keeps the reason')
    .addOption(configOption())
    .addOption(actorOption())
    .addOption(dryRunOption())
    .action(async (options) => {
      const { acceptEntries } = await import('../../operations/ledger-accept');
      const { acceptView } = await import('../views/ledger');
      await answer(options, (run) => acceptEntries({ ...options, ...run }), acceptView);
    });
}

function compactedOption() {
  return new Option('--compacted <file...>', 'the files into which `hod ledger compact` moved entries');
}

function compactCommand() {
  return command('compact', 'move entries of releases that tidying removed into a file; the chain stays whole', [
    ['hod ledger compact old.jsonl --dry-run', 'how many entries would be moved?'],
    ['hod ledger compact old.jsonl', 'move them; keep the file'],
    ['hod ledger compact old.jsonl --older-than 1y', 'only what nobody recorded anything about for a year'],
    ['hod ledger compact old.jsonl --field entries', 'how many entries were moved'],
  ])
    .argument('<file>', 'the new file to write')
    .option('--older-than <time>', 'how long nothing was recorded about a release (default: 90d)', parseAge)
    .addOption(configOption())
    .addOption(actorOption())
    .addOption(dryRunOption())
    .action(async (file, options) => {
      const { compactLedger } = await import('../../operations/ledger-compact');
      const { compactView } = await import('../views/ledger');
      await answer(options, (run) => compactLedger({ file, ...options, ...run }), compactView);
    });
}

function exportCommand() {
  return command('export', 'write every entry to a file, as JSON lines', [
    ['hod ledger export ledger.jsonl', 'a copy to keep, or to import elsewhere'],
    ['hod ledger export -c services/hod.yaml services.jsonl', 'of another product'],
    ['hod ledger export ledger.jsonl --compacted old.jsonl', 'with the entries that `hod ledger compact` moved'],
    ['hod ledger export ledger.jsonl --field written', 'how many entries were written'],
  ])
    .argument('<file>', 'the file to write')
    .addOption(compactedOption())
    .addOption(configOption())
    .action(async (file, options) => {
      const { exportLedger } = await import('../../operations/ledger-export');
      const { exportView } = await import('../views/ledger');
      await answer(options, (run) => exportLedger({ file, ...options, ...run }), exportView);
    });
}

/** Where entries are to come from. Throws where that is not said, or said twice. */
function sourceOf(file: string | undefined, ledger: string | undefined): ImportOptions['source'] {
  if (file !== undefined && ledger === undefined) {
    return { file };
  }
  if (ledger !== undefined && file === undefined) {
    return { ledger };
  }
  throw new HodError('options-conflict', {
    what: 'entries come from one place',
    object: 'FILE and --from',
    why: file === undefined ? 'neither was given' : 'both were given',
    next: 'name the file that `hod ledger export` wrote, or another ledger with --from',
  });
}

function rebuildCommand() {
  return command('rebuild', 'rebuild a lost ledger from the release records in the registries', [
    ['hod ledger rebuild --dry-run', 'what would be known, and what would not?'],
    ['hod ledger rebuild', 'into the ledger that hod.yaml names, which must be empty'],
    ['hod ledger rebuild --serves prod=1.1.0', 'where tags do not tell what prod serves'],
    ['hod ledger rebuild --dry-run --field notRecovered.what', 'what the registries do not tell'],
  ])
    .addOption(configOption())
    .option('--serves <env=release...>', 'the version or commit that an environment serves, where its tags do not tell')
    .option('--unsigned', 'believe release records that no trusted key signed, where hod.yaml names a key to sign with')
    .addOption(actorOption())
    .addOption(dryRunOption())
    .addOption(quietOption())
    .addOption(verboseOption())
    .action(async (options) => {
      const { rebuildLedger } = await import('../../operations/ledger-rebuild');
      const { rebuildView } = await import('../views/ledger');
      await answer(options, (run) => rebuildLedger({ ...options, ...run }), rebuildView);
    });
}

function importCommand() {
  return command('import', 'import entries from a file or another ledger; existing entries are skipped', [
    ['hod ledger import ledger.jsonl', 'what `hod ledger export` wrote'],
    [
      "hod ledger import --from '{ file: .hod/ledger.db }'",
      'hod.yaml names another ledger now: carry everything there',
    ],
    ['hod ledger import ledger.jsonl --dry-run', 'check every entry, and say how many would be added'],
    ['hod ledger import ledger.jsonl --field written', 'how many entries were written'],
  ])
    .argument('[file]', 'what `hod ledger export` wrote')
    .addOption(new Option('--from <ledger>', 'read another ledger, written as under `ledger:` in hod.yaml'))
    .addOption(configOption())
    .addOption(dryRunOption())
    .action(async (file, options) => {
      const { importLedger } = await import('../../operations/ledger-import');
      const { importView } = await import('../views/ledger');
      const source = sourceOf(file, options.from);
      await answer(options, (run) => importLedger({ source, ...options, ...run }), importView);
    });
}
