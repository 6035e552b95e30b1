import type { Passage } from '../../core/release/gates/passage';
import { kindOf } from '../../core/oci/bundle';
import { annotationNames, readContent } from '../../core/oci/content';
import { isCarried } from '../../core/oci/referrers';
import type { ChosenRelease } from '../../core/release/promotion';
import { placeholdersOf } from '../../core/tags/template';
import { dayOf } from '../../core/time';
import type { Session } from '../../session/session';
import type { Config, EnvironmentConfig } from '../../workspace/config';
import { commitTimes } from '../../workspace/git';
import { readCommitSigner } from '../../workspace/commit-signature';
import type { CommitSigner } from '../../core/release/gates/signed-commit';
import type { TrustRules } from '../../core/trust/trust-rules';
import { referrerTypes, findReferrers, carriedOf, listingAhead } from '../referrers/find';
import { readSignedDocuments } from '../referrers/documents';
import { arriving, type DeliveryItem } from '../delivery';

/** The day of a commit, where a tag of the environment is made of it; undefined also where git does not know the commit. */
async function dayForTags(
  { release, components }: ChosenRelease,
  { rulesOf }: EnvironmentConfig,
  { folder }: Config,
): Promise<string | undefined> {
  const rules = components.flatMap(({ component }) => rulesOf(component));
  if (!rules.some(({ template }) => placeholdersOf(template).includes('date'))) {
    return undefined;
  }
  const time = (await commitTimes(folder, [release.commit])).get(release.commit);
  return time === undefined ? undefined : dayOf(time);
}

/** Reads the content of a release from the environment that it comes from, and finds the repositories that it goes to. */
export async function readReleased(
  chosen: ChosenRelease,
  { from, to }: Passage<EnvironmentConfig>,
  { session, config, trust }: { readonly session: Session; readonly config: Config; readonly trust: TrustRules },
) {
  const { release, components } = chosen;
  const items = await Promise.all(
    components.map(async ({ component, platforms, included, ...placed }) => {
      const source = session.client(from.repositoryOf(component));
      const target = session.client(to.repositoryOf(component));
      // Within one repository no referrer has to be carried; a gate may ask which there are.
      const { referrers: types, attested = [] } = to.admissionRules;
      const isRuled = types.length > 0 || attested.length > 0;
      const isAsked = isRuled || (source !== target && to.carrying !== 'none');
      // A statement that a rule asks for may be in a referrer of any type.
      const matters = (type: string): boolean =>
        attested.length > 0 || isCarried(type, to.carrying) || types.includes(type);
      const node = await readContent(isAsked ? listingAhead(source) : source, placed);
      const all = isAsked ? await findReferrers(node, matters) : [];
      const documents = attested.length > 0 ? await readSignedDocuments(all) : [];
      const referrers = source === target ? [] : carriedOf(node, all, to.carrying);
      const item: DeliveryItem = { component, node, platforms, target, included, referrers };
      return { item, referrers: referrerTypes(node, all), documents };
    }),
  );
  return {
    release,
    date: await dayForTags(chosen, to, config),
    items: items.map(({ item }) => item),
    commitSigner: await commitSigner(release, to, { config, trust }),
    components: items.map(({ item, referrers, documents }) => ({
      ...arriving(item),
      kind: kindOf(item.node.manifest),
      platforms: item.platforms,
      annotations: annotationNames(item.node),
      referrers,
      documents,
    })),
  };
}

/** Who signed the commit of a release; undefined where the environment does not ask. */
async function commitSigner(
  { commit }: ChosenRelease['release'],
  { admissionRules }: EnvironmentConfig,
  { config, trust }: { readonly config: Config; readonly trust: TrustRules },
): Promise<CommitSigner | undefined> {
  return admissionRules.signedCommit === true ? readCommitSigner(config.folder, commit, trust.people) : undefined;
}
