import type { SealedEntry } from '../ledger/entry';
import { stayIn } from '../ledger/environment';
import { verifyReleaseRecord } from '../ledger/release-record';
import type { Signatures } from '../ledger/signatures';
import { verifyEntry } from '../ledger/signed-entry';
import { describePosition } from '../tags/ordering';
import type { TrustedSigners } from '../trust/signer';
import type { Finding, Note, Proven } from './proof';

/** Something that happened to a release on its way, and who signed the entry that says so. */
export interface SignedStep {
  /** The version or commit of the release. */
  readonly object: string;
  readonly environment: string;
  readonly entry: number;
  readonly actor: string;
  readonly by: string;
  readonly key: string;
}

/** What signatures say of a release: who signed what, what nobody signed, and what is older than the first signature. */
export interface SignedProof {
  readonly steps: readonly SignedStep[];
  readonly findings: readonly Finding[];
  readonly notes: readonly Note[];
}

/** What is known of the signatures in a ledger. */
export interface SignaturesKnown {
  readonly product: string;
  readonly trust: TrustedSigners;
  /** The first signed entry; undefined where none is. */
  readonly since: number | undefined;
  readonly entryOf: (seq: number) => SealedEntry | undefined;
  /** The stretches of entries that nobody signed who was trusted then. */
  readonly unsigned: Signatures['unsigned'];
}

/** Returns the entries that brought a component of a release into an environment, and into those that it passed through before. */
export function stepsOf({ release, served, environment, before }: Proven): { environment: string; seq: number }[] {
  return [...before]
    .reverse()
    .concat(environment)
    .flatMap((each) => {
      const stay = stayIn(release, each, served.component);
      return stay === undefined ? [] : [{ environment: each, seq: stay.seq }];
    });
}

/** Checks that a release was published and promoted by those who are trusted: its record is signed, and each entry of its way. */
export function proveSignatures(proven: Proven, known: SignaturesKnown): SignedProof {
  const { release, environment } = proven;
  const object = describePosition(release);
  const steps: SignedStep[] = [];
  const problems: { readonly text: string; readonly isOld: boolean }[] = [];
  for (const step of stepsOf(proven)) {
    const sealed = known.entryOf(step.seq);
    const verified = sealed && verifyEntry(sealed, known.trust);
    const stretch = known.unsigned.find(({ from, to }) => from <= step.seq && step.seq <= to);
    if (sealed !== undefined && verified?.by !== undefined && stretch === undefined) {
      const { actor } = sealed.entry;
      steps.push({ object, environment: step.environment, entry: step.seq, actor, by: verified.by, key: verified.key });
    } else if (stretch?.accepted === undefined) {
      const problem = stretch?.problem ?? 'it is not signed';
      const text = `entry ${step.seq}, by which it came into ${step.environment}: ${problem}`;
      problems.push({ text, isOld: isBefore(step.seq, known) });
    }
  }
  const record = verifyReleaseRecord(known.product, release, known.trust);
  const [first] = stepsOf(proven);
  if (record.by === undefined) {
    problems.push({
      text: `its release record: ${record.problem}`,
      isOld: first !== undefined && isBefore(first.seq, known),
    });
  }
  const about = `${object} in ${environment}`;
  const old = problems.filter(({ isOld }) => isOld).map(({ text }) => text);
  const found = problems.filter(({ isOld }) => !isOld);
  return {
    steps,
    findings: found.map(({ text }) => ({
      finding: 'not-signed',
      component: '',
      object: about,
      detail: text,
      remedy:
        '`hod ledger verify` lists the entries that nobody signed; publish a new version, and promote that, where you do not trust them',
    })),
    notes:
      old.length === 0
        ? []
        : [{ note: 'before-signing', object: about, detail: `${old.join('; ')} (older than the first signed entry)` }],
  };
}

function isBefore(seq: number, { since }: Pick<SignaturesKnown, 'since'>): boolean {
  return since === undefined || seq < since;
}
