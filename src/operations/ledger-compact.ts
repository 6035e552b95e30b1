import { basename } from 'node:path';
import { compactedAction, Compaction, mattersForCompaction } from '../core/ledger/compaction';
import type { CompactedEntry } from '../core/ledger/entry';
import { Facts } from '../core/ledger/facts';
import { timestampOf, type Timestamp } from '../core/time';
import { appendDeciding } from '../delivery/record';
import { compactedEntries, writeMovedTexts } from '../ledger/compacted';
import type { LedgerContent } from '../ledger/ledger';
import type { LedgerCompactResult } from '../results/ledger';
import { actorOf } from '../session/actor';
import { ledgerLabel, refuseEmpty, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';

/** What `ledger compact` is told. */
export interface CompactOptions extends SessionOptions {
  /** The file that entries are moved into. */
  file: string;
  /** Milliseconds: nothing moves of a release about which something was recorded since. */
  olderThan?: number | undefined;
  actor?: string | undefined;
  dryRun?: true | undefined;
}

/** A quarter of a year, in milliseconds. */
const usualAge = 90 * 24 * 60 * 60 * 1000;

/**
 * Moves the entries of a ledger that nobody needs any more into a file; their hashes stay, so that the chain is whole.
 *
 * @throws `file-unusable` for a file that is there already.
 */
export async function compactLedger(options: CompactOptions): Promise<LedgerCompactResult> {
  return withProduct(options, async (config, session) => {
    const { product } = config;
    const { file } = options;
    const dryRun = options.dryRun === true;
    const receivers = config.receivers.map(({ name }) => name);
    const before = timestampOf(new Date(Date.now() - (options.olderThan ?? usualAge)));
    const actor = await actorOf(options.actor, config, session);
    return withLedger(config, session, dryRun ? 'read' : 'write', async (ledger) => {
      await refuseEmpty(config, ledger);
      let isNew = true;
      const { value } = await appendDeciding({ ledger, product, actor, observer: session.observer }, async () => {
        const state = await ledger.read([]);
        return ledger.snapshot(async (content) => {
          const [earlier, moved] = [await compactedEntries(content), await choose(content, before, receivers)];
          const value = { entries: moved.length, kept: state.head.seq - earlier.length - moved.length };
          if (dryRun || moved.length === 0) {
            return { ...state, actions: [], value };
          }
          const compacted = moved.map(({ seq }) => seq);
          const digest = await writeMovedTexts(file, content, { seqs: new Set(compacted), isNew });
          isNew = false;
          const action = compactedAction({ file: basename(file), digest }, moved, earlier);
          return { ...state, actions: [action], compacted, value };
        });
      });
      return { product, ledger: ledgerLabel(config), file, dryRun, before, ...value };
    });
  });
}

/** Finds the entries that may be moved, in their order. */
async function choose(
  content: LedgerContent,
  before: Timestamp,
  receivers: readonly string[],
): Promise<CompactedEntry[]> {
  const facts = new Facts();
  for await (const fact of content.facts()) {
    if (mattersForCompaction(fact)) {
      facts.load(fact.key, fact.text);
    }
  }
  const compaction = new Compaction();
  for await (const sealed of content.entries()) {
    compaction.add(sealed);
  }
  return compaction.choose(facts, before, receivers);
}
