import { HodError } from '../core/errors';
import { decideIdentity, type Identity } from '../core/identify/identity';
import { factName, type FactKey } from '../core/ledger/facts';
import { isDigest, type Digest } from '../core/oci/digest';
import { Knowledge, type Need } from '../core/release/knowledge';
import { Refusal } from '../core/release/refusal';
import { describePosition } from '../core/tags/ordering';
import { joinLines } from '../core/text';
import type { Ledger } from '../ledger/ledger';

const digests = /sha(?:256:[a-f0-9]{64}|512:[a-f0-9]{128})(?![a-f0-9])/g;
/** So many digests of an error are looked up, and so many times a ledger is read for each. */
const [mostDigests, mostReads] = [4, 6];

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
      const identity = await identityOf(digest, ledger);
      if (identity !== undefined && identity.components.length > 0) {
        error.problem.release = identity.components.map(holderText).join('; ');
        return;
      }
    }
  } catch {
    // A ledger that cannot be read now adds nothing to what is wrong already.
  }
}

async function identityOf(digest: Digest, ledger: Pick<Ledger, 'read'>): Promise<Identity | undefined> {
  const known = new Knowledge();
  const keys = new Map<string, FactKey>();
  for (let reads = 0; reads < mostReads; reads += 1) {
    const found = decideIdentity(digest, known);
    if (found.kind !== 'needs') {
      return found.kind === 'decided' && found.value.kind === 'known' ? found.value.identity : undefined;
    }
    factsIn(found.needs).forEach((key) => keys.set(factName(key), key));
    known.facts = (await ledger.read([...keys.values()], 'known')).facts;
  }
  return undefined;
}

function factsIn(needs: readonly Need[]): FactKey[] {
  return needs.flatMap((need) => (need.kind === 'fact' ? [need.fact] : []));
}

function holderText({ component, releases: [latest], count }: Identity['components'][number]): string {
  const others = count > 1 ? ` and ${count - 1} other release${count > 2 ? 's' : ''}` : '';
  return `${component} ${latest === undefined ? 'of a release' : describePosition(latest)}${others}`;
}
