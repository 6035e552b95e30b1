import type { Timestamp } from '../time';
import type { TrustedSigners } from '../trust/signer';
import type { SealedEntry } from './entry';
import { verifyEntry } from './signed-entry';

/** Somebody who signed entries of a ledger. */
export interface EntrySigner {
  readonly by: string;
  readonly key: string;
  readonly entries: number;
  /** The first and the last entry. */
  readonly first: number;
  readonly last: number;
}

/** Entries in a row that nobody signed who is trusted, after signing began. */
export interface UnsignedEntries {
  readonly from: number;
  readonly to: number;
  readonly problem: string;
  /** Who accepted them later, in a signed entry, and why. */
  readonly accepted: { readonly by: string; readonly reason: string } | undefined;
}

/** Who signed the entries of a ledger. */
export interface Signatures {
  /** The first entry that is signed; undefined where none is. */
  readonly since: number | undefined;
  readonly signers: readonly EntrySigner[];
  readonly unsigned: readonly UnsignedEntries[];
}

/** Checks the signatures of entries, one after the other, from the first of a ledger on. */
export class SignatureCheck {
  private since: number | undefined;
  private at: Timestamp | undefined;
  private readonly signers = new Map<string, EntrySigner>();
  private readonly unsigned: UnsignedEntries[] = [];

  constructor(private readonly trust: TrustedSigners) {}

  add(sealed: SealedEntry): void {
    const { seq, at, action, actor, signature } = sealed.entry;
    this.at = this.at === undefined || at > this.at ? at : this.at;
    if (signature !== undefined) {
      this.since ??= seq;
    }
    const verified = verifyEntry(sealed, this.trust, this.at);
    if (verified?.by !== undefined) {
      this.addSigned(verified.by, verified.key, seq);
      if (action.kind === 'entries-accepted') {
        this.accept(action, { by: actor, reason: action.reason });
      }
    } else if (this.since !== undefined) {
      this.addUnsigned(seq, verified?.problem ?? 'it is not signed');
    }
  }

  get found(): Signatures {
    return { since: this.since, signers: [...this.signers.values()], unsigned: this.unsigned };
  }

  private addSigned(by: string, key: string, seq: number): void {
    const known = this.signers.get(`${by} ${key}`);
    const { entries, first } = known ?? { entries: 0, first: seq };
    this.signers.set(`${by} ${key}`, { by, key, entries: entries + 1, first, last: seq });
  }

  private addUnsigned(seq: number, problem: string): void {
    const last = this.unsigned.at(-1);
    if (last?.to === seq - 1 && last.problem === problem) {
      this.unsigned[this.unsigned.length - 1] = { ...last, to: seq };
    } else {
      this.unsigned.push({ from: seq, to: seq, problem, accepted: undefined });
    }
  }

  private accept(
    { from, to }: { readonly from: number; readonly to: number },
    accepted: UnsignedEntries['accepted'],
  ): void {
    this.unsigned.forEach((each, at) => {
      if (each.from >= from && each.to <= to && each.accepted === undefined) {
        this.unsigned[at] = { ...each, accepted };
      }
    });
  }
}
