import { HodError } from '../core/errors';
import { protectionIndex, protectionTag, sharedProtectionTag } from '../core/build/protection';
import { tagKey, type StagedIn } from '../core/ledger/facts';
import type { Digest } from '../core/oci/digest';
import type { Ledger } from '../ledger/ledger';
import type { RepositoryClient } from '../registry/repository';
import { settleAll } from '../system/promises';
import { removeTag } from './settle';

/** Whether one tag protects all that is staged in a repository: a publication made it there when the registry removed no tag. */
export async function isSharedProtection({ manifests }: Pick<RepositoryClient, 'manifests'>): Promise<boolean> {
  return (await manifests.resolve(sharedProtectionTag)) !== undefined;
}

/**
 * Points the shared protection tag of a repository to an index of everything that the ledger knows as staged there.
 *
 * Jobs that stage at the same time overwrite each other's index. So each job writes what the ledger says after its own entry,
 * and reads the ledger again until nothing was added meanwhile: the last one to write has seen all entries.
 */
export async function protectTogether(target: RepositoryClient, ledger: Pick<Ledger, 'read'>): Promise<void> {
  let written: Digest | undefined;
  for (;;) {
    const { facts } = await ledger.read([{ kind: 'staged-in', key: target.label }]);
    const parts = facts.get('staged-in', target.label) ?? [];
    const index = protectionIndex(parts, target.label);
    if (index.digest === written) {
      return;
    }
    try {
      await target.manifests.put(sharedProtectionTag, index);
    } catch (error) {
      if (!(error instanceof HodError) || error.code !== 'content-lacking') {
        throw error;
      }
      // Somebody removed a part: the others are protected all the same.
      await target.manifests.put(sharedProtectionTag, protectionIndex(await presentIn(target, parts), target.label));
    }
    written = index.digest;
  }
}

async function presentIn({ manifests }: RepositoryClient, parts: readonly StagedIn[]): Promise<StagedIn[]> {
  const resolved = await settleAll(parts.map(async (part) => ((await manifests.resolve(part.digest)) ? [part] : [])));
  return resolved.flat();
}

/**
 * Ends the protection of what was published. Where the registry removes no tags, one shared tag protects what is staged from now on.
 * Answers the tags that stay, the first time that this is found out.
 */
export async function endProtection(
  items: readonly { readonly target: RepositoryClient; readonly staged: readonly { readonly digest: Digest }[] }[],
  ledger: Pick<Ledger, 'read'>,
): Promise<string[]> {
  const targets = [...new Set(items.map(({ target }) => target))];
  const kept = await settleAll(
    targets.map(async (target) => {
      const staged = items.filter((item) => item.target === target).flatMap((item) => item.staged);
      const tags = [...new Set(staged.map(({ digest }) => protectionTag(digest)))];
      const outcomes = await settleAll(tags.map((tag) => removeTag(target, tag)));
      const stays = tags.filter((_, at) => outcomes[at] !== 'removed').map((tag) => tagKey(target.label, tag));
      // A registry that only failed may remove the next tag.
      return outcomes.includes('refused') ? shareQuietly(target, stays, ledger) : stays;
    }),
  );
  return kept.flat();
}

/** Protects together from now on. What was published is published: a failure here is none of the publication. */
async function shareQuietly(target: RepositoryClient, left: string[], ledger: Pick<Ledger, 'read'>): Promise<string[]> {
  try {
    const isShared = await isSharedProtection(target);
    await protectTogether(target, ledger);
    return isShared ? [] : left;
  } catch (error) {
    if (error instanceof HodError) {
      return left;
    }
    throw error;
  }
}
