import type { Actor } from '../core/ledger/entry';
import { kindOf } from '../core/oci/bundle';
import { annotationNames, readContent } from '../core/oci/content';
import type { Repository } from '../core/oci/reference';
import { isCarried } from '../core/oci/referrers';
import { despiteOf, type DespiteOptions } from '../core/release/despite';
import { chooseEntering, type ChosenRelease, type Promotion } from '../core/release/promotion';
import { dayOf, timestampOf } from '../core/time';
import { deliver } from '../delivery/deliver';
import { checkFormerPlaces } from '../delivery/former-places';
import { withAnnouncing } from '../delivery/announcing';
import { attachedTypes, attachmentsOf, carriedOf } from '../delivery/attachments';
import { arriving, mannerOf, type DeliveryContext, type DeliveryItem } from '../delivery/delivery';
import { Judge } from '../delivery/judge';
import { commitOrders } from '../delivery/orders';
import { promotionDelivery } from '../delivery/promotion';
import { readChoice, type NamedRelease } from '../delivery/sources/choice';
import { toPromoteResult, type PromoteResult } from '../results/promote';
import { actorOf } from '../session/actor';
import { noteUnshared, refuseEmpty } from '../session/open-ledger';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import { chosenComponents, passageInto, wayInto, type Config, type Passage } from '../workspace/config';
import { readGit } from '../workspace/git';
import { stepsAfterDelivery } from './next-steps';

/** What `promote` is told. */
export interface PromoteOptions extends SessionOptions, NamedRelease, DespiteOptions {
  environment: string;
  /** The images and bundles to promote; all where none is named. */
  only?: readonly string[] | undefined;
  actor?: string | undefined;
  strictOrder?: true | undefined;
  /** Look at everything that is there already, and send what the registry lost. */
  mend?: true | undefined;
  dryRun?: true | undefined;
}

/** Carries releases, the same digests, from the environment before into an environment. */
export async function promote(options: PromoteOptions): Promise<PromoteResult> {
  return withProduct(options, async (config, session) => {
    const passage = passageInto(config, options.environment);
    const { from, to } = passage;
    const choice = await readChoice(config.folder, from, options);
    const only =
      options.only === undefined ? undefined : chosenComponents(config, options.only).map(({ name }) => name);
    const despite = despiteOf(options);
    const dryRun = options.dryRun === true;
    const about = { command: 'promote', environment: to.name } as const;
    const actor = (): Promise<Actor> => actorOf(options.actor, config, session);
    return withAnnouncing(config, session, { about, actor, dryRun }, async (ledger) => {
      await refuseEmpty(config, ledger);
      noteUnshared(config, session);
      if (!dryRun) {
        const clientOf = (repository: Repository) => session.client(repository);
        await checkFormerPlaces(wayInto(to), despite, { ledger, clientOf });
      }
      const context: DeliveryContext = {
        ledger,
        orders: commitOrders(config.folder),
        observer: session.observer,
        actor: await actor(),
        dryRun,
      };
      const judge = new Judge(context, []);
      const chosen = (await judge.decide((known) => chooseEntering(choice, only, from.name, to.name, known))).value;
      const parts = await Promise.all(chosen.map((each) => readPart(each, passage, session, config)));
      const promotion: Promotion = {
        product: config.product,
        parts,
        from: from.name,
        environment: to.name,
        rulesOf: to.rulesOf,
        entryRules: to.entryRules,
        now: timestampOf(new Date()),
        strictOrder: options.strictOrder === true,
        despite,
      };
      const delivered = await deliver(
        promotionDelivery(
          promotion,
          parts.flatMap(({ items }) => items),
          mannerOf(to, options),
        ),
        context,
      );
      const releases = chosen.map(({ release }) => release);
      const result = toPromoteResult(
        { product: config.product, releases, from: from.name, to: to.name, dryRun },
        delivered,
        ({ image }) => {
          const source = session.client(from.repositoryOf(image));
          return { repository: source.label, requests: source.requests };
        },
      );
      return { ...result, next: dryRun ? [] : stepsAfterDelivery(config, options.config, to.name, result.images) };
    });
  });
}

/** Reads the content of a release where it is, on its way to where it goes. */
async function readPart(
  { release, images }: ChosenRelease,
  { from, to }: Passage,
  session: Session,
  { folder }: Config,
) {
  const git = await readGit(folder, release.commit);
  const items = await Promise.all(
    images.map(async ({ image, platforms, ...placed }) => {
      const source = session.client(from.repositoryOf(image));
      const target = session.client(to.repositoryOf(image));
      const node = await readContent(source, placed);
      // Within one repository nothing has to go along; a rule may ask what there is.
      const isAsked = source !== target ? to.carrying !== 'none' : to.entryRules.attached.length > 0;
      const matters = (type: string): boolean => isCarried(type, to.carrying) || to.entryRules.attached.includes(type);
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
