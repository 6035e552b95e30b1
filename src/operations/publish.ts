import { HodError } from '../core/errors';
import { refuseDirtyVersion, type Build, type BuildOptions } from '../core/release/build';
import { contentId, releaseId } from '../core/release/entry';
import { tagKey, type Facts } from '../core/release/facts';
import { refuseOtherBuilds } from '../core/release/right-build';
import { protectionTag } from '../core/release/staging';
import { decideVersion, factsForVersion, refuseTakenVersion, type VersionDecision } from '../core/release/versions';
import { isPrerelease, linesOf, versionAmong, versionNamed, type Version } from '../core/tags/version';
import type { Config } from '../workspace/config';
import { History, tagsUpTo } from '../workspace/git';
import { deliver } from './deliver';
import { identified, tagsIn, type Delivery, type Orders, type Plan } from './delivery';
import { highestTagged } from './evidence';
import { gather, type Gathered } from './gather';
import { partNamed, partsOf, type ProductPart } from './parts';
import { readBuild } from './read-build';
import type { PublishResult } from './results';
import { actorOf, withLedger, withProduct, type Session, type SessionOptions } from './session';

/** What `publish` is told. */
export interface PublishOptions extends SessionOptions, BuildOptions {
  /** The images and bundles to publish without the others. */
  only?: readonly string[] | undefined;
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
    const [environment] = config.environments;
    const { product } = config;
    const dryRun = options.dryRun === true;
    const parts = partsNamed(config, options.only);
    const build = await readBuild(config.folder, options, session.observer);
    refuseDirtyVersion(build);
    return withLedger(config, dryRun ? 'read' : 'write', async (ledger) => {
      const images = await gather(parts, build.commit, { environment, session, ledger, wait: options.wait ?? 0 });
      const history = new History(config.folder);
      const delivered = await deliver(
        publication(config, build, images, history, adoptionFrom(config, images, build)),
        {
          ledger,
          history,
          limit: session.limit,
          observer: session.observer,
          actor: actorOf(options.actor),
          dryRun,
          strictOrder: options.strictOrder === true,
        },
      );
      const { outcome, reason, version } = delivered.plan.versioning;
      return {
        product,
        version: version ?? null,
        versioning: { outcome, reason },
        commit: build.commit,
        branch: build.branch ?? null,
        build: build.build ?? null,
        environment: environment.name,
        current: delivered.current,
        dryRun,
        images: delivered.images,
        leftovers: dryRun ? [] : await unprotect(images, session),
      };
    });
  });
}

interface Publication extends Plan {
  versioning: VersionDecision;
}

/** The delivery of a build to the first environment. Its version is decided with everything else. */
export function publication(
  config: Config,
  build: Build,
  images: readonly Gathered[],
  history: Orders,
  adopt: (facts: Facts) => Promise<Version | undefined>,
): Delivery<Publication> {
  const { product } = config;
  const [environment] = config.environments;
  const { commit, branch, build: number, run } = build;
  const digests = images.map(identified);
  const content = contentId(digests);
  const candidate = { commit, content };
  const claims = images.flatMap((image) => image.claims);
  return {
    product,
    environment: environment.name,
    images,
    needs: factsForVersion(build.version, candidate),
    async plan(facts) {
      const last = build.version.kind === 'next' ? facts.get('line', build.version.line) : undefined;
      const ancestry = await history.around(commit, last === undefined ? [] : [last.commit]);
      const adopted = await adopt(facts);
      const versioning = decideVersion(build.version, candidate, facts, ancestry, adopted);
      const { version } = versioning;
      const held = versioning.outcome === 'held';
      return {
        position: { commit, version },
        release: releaseId({ product, commit, version, images: digests }),
        tags: tagsIn(environment, images, { product, ...build, version }, held),
        late: held ? versioning.reason : undefined,
        versioning,
      };
    },
    permit({ versioning: { version } }, facts) {
      refuseOtherBuilds(claims, commit, version);
      refuseTakenVersion(version, candidate, facts);
    },
    action: ({ position, release }, landing) => ({
      kind: 'published',
      release,
      ...position,
      branch,
      build: number,
      run,
      environment: environment.name,
      ...landing,
    }),
  };
}

/** Finds the version that a ledger without one goes on from: the highest that the registry, or a git tag, shows. */
function adoptionFrom(
  { folder }: Config,
  images: readonly Gathered[],
  { commit, version }: Build,
): (facts: Facts) => Promise<Version | undefined> {
  const find = async (line: string): Promise<Version | undefined> => {
    const [first] = images;
    const tagged = first && (await highestTagged(first.target, line));
    const released = (await tagsUpTo(folder, commit)).filter((name) => {
      const named = versionNamed(name);
      return named !== undefined && !isPrerelease(named) && linesOf(named).includes(line);
    });
    return versionAmong([...released, ...(tagged === undefined ? [] : [tagged])]);
  };
  let found: Promise<Version | undefined> | undefined;
  return async (facts) => {
    if (version.kind !== 'next' || facts.get('line', version.line) !== undefined) {
      return undefined;
    }
    return (found ??= find(version.line));
  };
}

/** The parts of a product to publish. Throws where a name is unknown, or may not be published by itself. */
function partsNamed(config: Config, only: readonly string[] | undefined): ProductPart[] {
  const all = partsOf(config);
  if (only === undefined) {
    return all;
  }
  return only.map((name) => {
    const part = partNamed(config, name);
    if (!part.alone) {
      throw new HodError('refused', {
        what: 'this may not be published by itself',
        object: name,
        why: `the images and bundles of ${config.product} are published together, so that their tags always belong together`,
        next: 'leave --only out, or write `alone: true` under it in hod.yaml',
      });
    }
    return part;
  });
}

/** Removes the tags that protected what was staged. Answers those that the registry does not remove. */
async function unprotect(images: readonly Gathered[], session: Session): Promise<string[]> {
  const removed = images.flatMap(({ target, staged }) =>
    staged.map(async ({ digest }) => {
      const tag = protectionTag(digest);
      return (await session.limit(() => target.deleteTag(tag))) ? [] : [tagKey(target.label, tag)];
    }),
  );
  return (await Promise.all(removed)).flat();
}
