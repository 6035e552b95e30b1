import type { Actor } from '../core/ledger/entry';
import type { Despite } from '../core/release/despite';
import type { ParcelRelease, Reception } from '../core/release/gates/receiving';
import type { Publication } from '../core/release/publication';
import { timestampOf } from '../core/time';
import { withAnnouncing } from '../announcing/announce';
import { deliver } from '../delivery/deliver';
import { arriving, mannerOf, type DeliveredItem } from '../delivery/delivery';
import { buildOrders, commitOrders } from '../delivery/orders';
import { publicationDelivery } from '../delivery/publication';
import {
  gatherAll,
  readChosenBuild,
  type ChosenBuild,
  type ChosenBuildOptions,
} from '../delivery/sources/chosen-build';
import { checkParcel } from '../delivery/sources/parcel';
import type { GatheredItem } from '../delivery/sources/gather';
import { endProtection } from '../delivery/protection';
import { writeVersionTag } from '../delivery/version-tag';
import { toPublishResult, type PublishResult } from '../results/publish';
import { ledgerLabel, noteUnshared } from '../session/open-ledger';
import { actorOf, prepared } from '../session/actor';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import { SharedRemoteReader } from '../workspace/shared-remote';
import type { CheckoutRules } from '../core/release/gates/rules-in-force';
import { admissionRulesIn } from '../core/ledger/rules';
import { readCheckoutRules } from '../workspace/checkout-rules';
import type { Config } from '../workspace/config';
import { moveIfElsewhere } from './moving';
import { stepsAfterDelivery } from './next-steps';

/** What `publish` is told. */
export interface PublishOptions extends SessionOptions, ChosenBuildOptions {
  /** How long to wait for what other jobs are still to stage, in milliseconds. */
  wait?: number | undefined;
  actor?: string | undefined;
  strictOrder?: true | undefined;
  /** Look at everything that is there already, and send what the registry lost. */
  mend?: true | undefined;
  /** Write the version as an annotated tag to the git remote. */
  gitTag?: true | undefined;
  dryRun?: true | undefined;
}

/**
 * Publishes a product to its first environment: gathers build outputs that are here or were staged,
 * uploads what the registry lacks, assembles indexes of platforms that were built apart, decides the
 * version, and writes the tags.
 */
export async function publish(options: PublishOptions): Promise<PublishResult> {
  return withProduct(options, async (config, session) => {
    const [environment] = config.environments;
    const dryRun = options.dryRun === true;
    const readBuild = await readChosenBuild(config, options, session);
    const { parcel, chosen, build, despite } = readBuild;
    noteUnshared(config, session);
    const about = { command: 'publish', environment: environment.name } as const;
    const actor = (): Promise<Actor> => actorOf(options.actor, config, session);
    return withAnnouncing(config, session, { about, actor, dryRun }, async (ledger) => {
      const { head } = await ledger.read([]);
      const { observer } = session;
      const context = {
        ...{ ledger, observer },
        ...{ orders: commitOrders(config.folder), remote: new SharedRemoteReader(config) },
        actor: await prepared(actor(), { dryRun }),
        dryRun,
      };
      const moved = await moveIfElsewhere(config, environment, { ...options, despite }, { session, context });
      const gathering = { config, environment, session, ledger, wait: options.wait ?? 0 };
      const items = await gatherAll(chosen, build, gathering);
      if (parcel !== undefined) {
        checkParcel(parcel, items);
      }
      const publication = await readPublication(config, readBuild, items, {
        strictOrder: options.strictOrder === true,
      });
      const delivered = await deliver(publicationDelivery(publication, items, mannerOf(environment, options)), {
        ...context,
        orders: buildOrders(config, build.commit, items),
      });
      noteAdopted(head.seq === 0 ? delivered.items : [], config, session);
      const leftovers = dryRun ? [] : await endProtection(items, ledger);
      const tag = options.gitTag === true ? await writeVersionTag(delivered, context, { config, session }) : undefined;
      const published = { config, environment: environment.name, build, dryRun, moved, gitTag: tag };
      const result = toPublishResult(published, delivered, leftovers);
      return { ...result, next: dryRun ? [] : stepsAfterDelivery(config, options.config, environment.name, result) };
    });
  });
}

/** Reads what a build is to become, and by which rules it is judged. */
async function readPublication(
  config: Config,
  { parcel, build, checkedOut, following, despite }: ChosenBuild,
  items: readonly GatheredItem[],
  { strictOrder }: { readonly strictOrder: boolean },
): Promise<Publication> {
  const { product, components } = config;
  const [{ name: environment, rulesOf }] = config.environments;
  const checkout = await readCheckoutRules(config, checkedOut);
  return {
    ...{ product, environment, from: null, rulesOf, following, build, strictOrder, despite, checkout },
    components: items.map(arriving),
    lists: components.map(({ name }) => name),
    claims: items.flatMap(({ claims }) => claims),
    reception: parcel && receptionOf(parcel, environment, checkout, despite),
  };
}

function receptionOf(parcel: ParcelRelease, environment: string, checkout: CheckoutRules, despite: Despite): Reception {
  return {
    parcel,
    environment,
    rules: admissionRulesIn(checkout.rules, environment),
    now: timestampOf(new Date()),
    despite,
  };
}

/** Tells that an empty ledger met tags in the registry. */
function noteAdopted(items: readonly DeliveredItem[], config: Config, { observer }: Session): void {
  if (items.some(({ tags }) => tags.some(({ served }) => served !== undefined))) {
    observer.note(
      `this ledger was empty (${ledgerLabel(config)}), and the registry is not: order was judged by the registry`,
    );
  }
}
