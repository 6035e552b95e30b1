import type { FactKey, Release } from '../core/ledger/facts';
import type { Ledger } from '../ledger/ledger';
import { readInParts } from './facts-in-parts';

/** Reads the releases that were built of any of some commits. */
export async function releasesOf(commits: readonly string[], ledger: Pick<Ledger, 'read'>): Promise<Release[]> {
  const ids = new Set<string>();
  const keysOf = (part: readonly string[]): FactKey[] => part.map((key) => ({ kind: 'commit', key }));
  await readInParts(commits, keysOf, ledger, (part, facts) => {
    part.flatMap((key) => facts.get('commit', key) ?? []).forEach(({ release }) => ids.add(release));
  });
  const { facts } = await ledger.read(
    [...ids].map((key): FactKey => ({ kind: 'release', key })),
    'known',
  );
  return [...ids].flatMap((id) => facts.get('release', id) ?? []);
}
