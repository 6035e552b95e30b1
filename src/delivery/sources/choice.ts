import { isCommitId, notACommit, type CommitId } from '../../core/commit';
import { HodError } from '../../core/errors';
import type { EvidenceChoice } from '../../core/release/evidence';
import type { NamedChoice, ReleaseChoice } from '../../core/release/promotion';
import type { Release } from '../../core/ledger/facts';
import { parseVersion, versionNamed } from '../../core/tags/version';
import type { Ledger } from '../../ledger/ledger';
import { checkedOut, commitNamed } from '../../workspace/git';

/** A release, by its version or its commit. */
export interface NamedRelease {
  version?: string | undefined;
  /** Anything that git here knows as a commit; true for the one that is checked out. */
  commit?: string | true | undefined;
}

/**
 * Reads which release is named; undefined where none is. Throws `usage` where two are named, or the
 * commit is none.
 *
 * @param option The option that names a version.
 */
export async function readNamed(
  folder: string,
  { version, commit }: NamedRelease,
  option: string,
): Promise<NamedChoice | undefined> {
  if (version !== undefined && commit !== undefined) {
    throw new HodError('options-conflict', {
      what: 'two releases are named',
      object: `${option} ${version} --commit${commit === true ? '' : ` ${commit}`}`,
      why: 'each of them names one',
      next: 'use one of them',
    });
  }
  if (version !== undefined) {
    return { version: parseVersion(version) };
  }
  if (commit === true) {
    return { commit: (await readCheckout(folder)) ?? (await commitGiven(folder, 'HEAD')) };
  }
  return commit === undefined ? undefined : { commit: await commitGiven(folder, commit) };
}

/** Reads which releases are meant: one that is named, else what an environment serves. Throws as {@link readNamed}. */
export async function readChoice(
  folder: string,
  served: { readonly name: string; readonly after: string | undefined },
  named: NamedRelease,
): Promise<ReleaseChoice> {
  const choice = await readNamed(folder, named, '--version');
  return choice ?? { servedBy: served.name, isFirst: served.after === undefined };
}

/**
 * Reads which releases evidence is about: one that is named, else what an environment serves, with the commit that is checked
 * out unless `serving` says that it does not matter. Throws as {@link readNamed}.
 */
export async function readEvidenceChoice(
  folder: string,
  served: { readonly name: string; readonly after: string | undefined },
  { serving, ...named }: NamedRelease & { readonly serving?: true | undefined },
): Promise<EvidenceChoice> {
  const choice = await readChoice(folder, served, named);
  if (!('servedBy' in choice)) {
    return choice;
  }
  return { ...choice, checkout: serving === true ? undefined : await readCheckout(folder) };
}

/** The commit that is checked out, by git or else by the CI; undefined where neither knows one. */
async function readCheckout(folder: string): Promise<CommitId | undefined> {
  const head = await checkedOut(folder);
  if (head !== undefined) {
    return head;
  }
  const { readCi } = await import('../../workspace/ci');
  const commit = readCi(folder)?.commit;
  return commit !== undefined && isCommitId(commit) ? commit : undefined;
}

/** The commit that a name stands for in git here. Throws `not-a-commit`. */
export async function commitGiven(folder: string, commit: string): Promise<CommitId> {
  const found = await commitNamed(folder, commit);
  const id = 'id' in found ? found.id : commit;
  if (!isCommitId(id)) {
    throw notACommit(commit, 'gap' in found ? found.gap : undefined);
  }
  return id;
}

/** The release that a version, or a commit that git here knows, names in a ledger; undefined where there is none. */
export async function findRelease(
  text: string,
  folder: string,
  ledger: Pick<Ledger, 'read'>,
): Promise<Release | undefined> {
  const version = versionNamed(text);
  const named = version === undefined ? await commitNamed(folder, text) : undefined;
  const commit = named !== undefined && 'id' in named ? named.id : isCommitId(text) ? text : undefined;
  const { facts } = await ledger.read([
    ...(version === undefined ? [] : [{ kind: 'version', key: version } as const]),
    ...(commit === undefined ? [] : [{ kind: 'commit', key: commit } as const]),
  ]);
  const found =
    version !== undefined
      ? facts.get('version', version)
      : commit !== undefined
        ? facts.get('commit', commit)
        : undefined;
  return found && (await ledger.read([{ kind: 'release', key: found.release }])).facts.get('release', found.release);
}
