import { HodError } from '../core/errors';
import { decideIdentity, type Identity } from '../core/identify/identity';
import { isDigest } from '../core/oci/digest';
import { Refusal } from '../core/release/refusal';
import { describePosition } from '../core/tags/ordering';
import { joinLines } from '../core/text';
import { answerFrom } from '../ledger/fact-reader';
import type { Ledger } from '../ledger/ledger';

const digests = /sha(?:256:[a-f0-9]{64}|512:[a-f0-9]{128})(?![a-f0-9])/g;
/** So many digests of an error are looked up. */
const mostDigests = 4;

/**
 * Tells an error which release the digest that it names is of, where the ledger knows. The error stays as it is where the ledger
 * cannot tell.
 */
export async function tellRelease(error: unknown, ledger: Pick<Ledger, 'read'>): Promise<void> {
  // A rule that says no names the release itself.
  if (!(error instanceof HodError) || error instanceof Refusal) {
    return;
  }
  const { object = '', why = '' } = error.problem;
  const named = [...`${joinLines(object)}\n${joinLines(why)}`.matchAll(digests)].map(([text]) => text);
  try {
    for (const digest of [...new Set(named)].filter(isDigest).slice(0, mostDigests)) {
      const found = await answerFrom(ledger, (known) => decideIdentity(digest, known));
      if (found.kind === 'known' && found.identity.components.length > 0) {
        error.problem.release = found.identity.components.map(holderText).join('; ');
        return;
      }
    }
  } catch {
    // A ledger that cannot be read now adds nothing to what is wrong already.
  }
}

function holderText({ component, releases: [latest], count }: Identity['components'][number]): string {
  const others = count > 1 ? ` and ${count - 1} other release${count > 2 ? 's' : ''}` : '';
  return `${component} ${latest === undefined ? 'of a release' : describePosition(latest)}${others}`;
}
