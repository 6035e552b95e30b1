import type { CommitId } from '../core/commit';
import { isCommitId } from '../core/commit';
import { HodError } from '../core/errors';
import type { Mention } from '../core/identify/mentions';
import { digitsOf, isDigest } from '../core/oci/digest';
import { formatReference, formatRepository, parseReference } from '../core/oci/reference';
import type { Ledger } from '../ledger/ledger';
import { findRelease } from '../delivery/sources/choice';
import { isDigestText } from './identify-digest';
import { isTextFile } from '../workspace/given-text';
import { commitNamed } from '../workspace/git';

/** What an argument asks about: a text, something that a text could name, or else a name that git or the ledger knows. */
export type Asked =
  | { readonly kind: 'text'; readonly path: string }
  | { readonly kind: 'mention'; readonly mention: Mention }
  | { readonly kind: 'name'; readonly text: string };

/** Reads what an argument asks about, by its form. */
export async function readAsked(text: string): Promise<Asked> {
  if (text === '-') {
    return { kind: 'text', path: text };
  }
  if (isDigest(text)) {
    return { kind: 'mention', mention: { text, digest: text, sureness: 'certain' } };
  }
  if (text.includes(':') && isDigestText(text)) {
    return { kind: 'mention', mention: { text, digits: digitsOf(text), sureness: 'certain' } };
  }
  if (await isTextFile(text)) {
    return { kind: 'text', path: text };
  }
  const mention = referenceAsked(text);
  return mention === undefined ? { kind: 'name', text } : { kind: 'mention', mention };
}

function referenceAsked(text: string): Mention | undefined {
  // A branch such as release/2.4 is no reference: hosts have a dot, a port, or are localhost.
  if (!/^[^/]*[.:][^/]*\/.*[:@]|^localhost\/.*[:@]/.test(text)) {
    return undefined;
  }
  const { repository, tag, digest } = parseReference(text);
  return {
    ...{ text: formatReference({ repository, tag, digest }), repository: formatRepository(repository), tag, digest },
    sureness: 'certain',
  };
}

/** What a name stands for: a commit, the digits that a digest may begin with, or both. */
export interface NamedThing {
  readonly commit: CommitId | undefined;
  readonly digits: string | undefined;
}

/**
 * Finds out what a name stands for: a commit or tag of git, a version or commit of the ledger, or the first digits of a digest.
 *
 * @throws {@link HodError} `nothing-named`
 */
export async function nameAsked(text: string, folder: string, ledger: Pick<Ledger, 'read'>): Promise<NamedThing> {
  const [released, named] = await Promise.all([findRelease(text, folder, ledger), commitNamed(folder, text)]);
  const commit = released?.commit ?? ('id' in named ? named.id : isCommitId(text) ? text : undefined);
  const digits = isDigestText(text) ? text : undefined;
  if (commit === undefined && digits === undefined) {
    throw new HodError('nothing-named', {
      what: 'this names nothing that can be identified',
      object: text,
      why: 'it is no reference, digest or file, the ledger has no release of it, and git does not know it here',
      next: 'name a reference, a digest (at least 8 digits of it), a commit, a tag or a version; or a file that holds them',
    });
  }
  return { commit, digits };
}
