import { HodError } from '../core/errors';
import type { BuildOptions } from '../core/release/build';
import { protectionTag } from '../core/release/component';
import { tagKey } from '../core/release/facts';
import { cleanForVersion } from '../core/release/gates/build';
import { publishedAlone } from '../core/release/gates/publication';
import type { Publication } from '../core/release/publication';
import { refuseUnmet } from '../core/release/refusal';
import { isReleaseOn, versionAmong, versionNamed } from '../core/tags/version';
import { deliver } from '../delivery/deliver';
import { arriving, type Orders } from '../delivery/delivery';
import { highestTagged } from '../delivery/evidence';
import { publicationDelivery } from '../delivery/publication';
import { gather, type GatheredItem } from '../delivery/sources/gather';
import { readBuild } from '../delivery/sources/read-build';
import { toPublishResult, type PublishResult } from '../results/publish';
import { withLedger } from '../session/open-ledger';
import { actorOf, withProduct, type SessionOptions } from '../session/session';
import { chosenComponents, type Config } from '../workspace/config';
import { History, tagsUpTo } from '../workspace/git';

/** What `publish` is told. */
export interface PublishOptions extends SessionOptions, BuildOptions {
  /** The images and bundles to publish; all where none is named. */
  images?: readonly string[] | undefined;
  /** How long to wait for what other jobs are still to stage, in milliseconds. */
  wait?: number | undefined;
  actor?: string | undefined;
  strictOrder?: true | undefined;
  dryRun?: true | undefined;
}

/**
 * Publishes a product to its first environment: gathers build outputs that are here or were staged,
 * uploads what the registry lacks, assembles indexes of platforms that were built apart, decides the
 * version, and writes the tags.
 */
export async function publish(options: PublishOptions): Promise<PublishResult> {
  return withProduct(options, async (config, session) => {
    const { product, components } = config;
    const [environment] = config.environments;
    const dryRun = options.dryRun === true;
    const chosen = chosenComponents(config, options.images ?? []);
    const build = await readBuild(config.folder, options, session.observer);
    refuseUnmet([publishedAlone(product, chosen, components), cleanForVersion(build)]);
    return withLedger(config, session, dryRun ? 'read' : 'write', async (ledger) => {
      const items = await gather(chosen, build.commit, { environment, session, ledger, wait: options.wait ?? 0 });
      const publication: Publication = {
        product,
        environment: environment.name,
        rules: environment.rules,
        build,
        images: items.map(arriving),
        claims: items.flatMap(({ claims }) => claims),
        strictOrder: options.strictOrder === true,
      };
      const delivered = await deliver(publicationDelivery(publication, items), {
        ledger,
        orders: ordersOf(config, build.commit, items),
        observer: session.observer,
        actor: actorOf(options.actor),
        dryRun,
      });
      const leftovers = dryRun ? [] : await unprotect(items);
      return toPublishResult({ product, environment: environment.name, build, dryRun }, delivered, leftovers);
    });
  });
}

/** What git tells of the order of builds, and the registry and git of the highest version. */
function ordersOf({ folder }: Config, commit: Publication['build']['commit'], items: readonly GatheredItem[]): Orders {
  const history = new History(folder);
  return {
    around: (own, others) => history.around(own, others),
    async highest(line) {
      const [first] = items;
      const tagged = first && (await highestTagged(first.target, line));
      const released = (await tagsUpTo(folder, commit)).filter((name) => {
        const version = versionNamed(name);
        return version !== undefined && isReleaseOn(line, version);
      });
      return versionAmong([...released, ...(tagged === undefined ? [] : [tagged])]);
    },
  };
}

/** Removes the tags that protected what was staged. Answers those that the registry does not remove. */
async function unprotect(items: readonly GatheredItem[]): Promise<string[]> {
  const removed = items.flatMap(({ target, staged }) =>
    staged.map(async ({ digest }) => {
      const tag = protectionTag(digest);
      // The release is out. A tag that is left over is told, and no failure.
      const removed = await target.tags.remove(tag).catch((error: unknown) => {
        if (error instanceof HodError) {
          return false;
        }
        throw error;
      });
      return removed ? [] : [tagKey(target.label, tag)];
    }),
  );
  return (await Promise.all(removed)).flat();
}
