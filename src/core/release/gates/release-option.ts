import type { Release } from '../../ledger/facts';

/** The option that names a release. */
export function releaseOption({ version, commit }: Pick<Release, 'version' | 'commit'>): string {
  return version === undefined ? ` --commit ${commit}` : ` --version ${version}`;
}
