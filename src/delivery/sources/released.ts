import { kindOf } from '../../core/oci/bundle';
import { annotationNames, readContent } from '../../core/oci/content';
import { isCarried } from '../../core/oci/referrers';
import type { ChosenRelease } from '../../core/release/promotion';
import { dayOf } from '../../core/time';
import type { Session } from '../../session/session';
import type { Config, Passage } from '../../workspace/config';
import { readGit } from '../../workspace/git';
import { attachedTypes, attachmentsOf, carriedOf } from '../attachments';
import { arriving, type DeliveryItem } from '../delivery';

/** Reads the content of a release in the environment that it comes from, with where it goes. */
export async function readReleased(
  { release, images }: ChosenRelease,
  { from, to }: Passage,
  { session, config }: { readonly session: Session; readonly config: Config },
) {
  const git = await readGit(config.folder, release.commit);
  const items = await Promise.all(
    images.map(async ({ image, platforms, ...placed }) => {
      const source = session.client(from.repositoryOf(image));
      const target = session.client(to.repositoryOf(image));
      const node = await readContent(source, placed);
      // Within one repository nothing has to go along; a rule may ask what there is.
      const isAsked = source !== target ? to.carrying !== 'none' : to.admissionRules.attached.length > 0;
      const matters = (type: string): boolean =>
        isCarried(type, to.carrying) || to.admissionRules.attached.includes(type);
      const all = isAsked ? await attachmentsOf(node, matters) : [];
      const attachments = source === target ? [] : carriedOf(node, all, to.carrying);
      const item: DeliveryItem = { image, node, platforms, target, attachments };
      return { item, attached: attachedTypes(node, all) };
    }),
  );
  return {
    release,
    date: 'commit' in git && git.commit.time !== undefined ? dayOf(git.commit.time) : undefined,
    items: items.map(({ item }) => item),
    images: items.map(({ item, attached }) => ({
      ...arriving(item),
      kind: kindOf(item.node.manifest),
      platforms: item.platforms,
      annotations: annotationNames(item.node),
      attached,
    })),
  };
}
