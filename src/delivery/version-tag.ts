import type { Actor } from '../core/ledger/entry';
import type { PublicationPlan } from '../core/release/publication';
import { tagOfVersion } from '../core/tags/version-tags';
import type { Session } from '../session/session';
import type { Config } from '../workspace/config';
import { pushTag, type GitTagOutcome } from '../workspace/git-tag';
import type { Delivered } from './delivery';

/**
 * Writes the version of a publication to the git remote, once the ledger has it. Undefined where nothing was published, or
 * without a version. Throws nothing for a tag that cannot be written: everything else is done.
 */
export async function writeVersionTag(
  { verdicts }: Delivered<PublicationPlan>,
  { actor, dryRun }: { readonly actor: Actor; readonly dryRun: boolean },
  { config, session }: { readonly config: Config; readonly session: Session },
): Promise<(GitTagOutcome & { readonly tag: string }) | undefined> {
  const [verdict] = verdicts;
  if (verdict === undefined || dryRun || verdict.gates.some(({ outcome }) => outcome === 'unmet')) {
    return undefined;
  }
  const { version } = verdict.plan.versioning;
  const { commit } = verdict.plan.origin;
  if (version === undefined) {
    session.observer.note('--git-tag: this build has no version, so there is no tag to write');
    return undefined;
  }
  const tag = tagOfVersion(config.versionTags, version);
  const message = `${config.product} ${version}`;
  const { reason, ...written } = await pushTag(config.folder, { name: tag, commit, message, tagger: actor.name });
  return { tag, ...written, reason: session.secrets.redact(reason) };
}
