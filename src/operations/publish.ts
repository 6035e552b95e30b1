import { HodError } from '../core/errors';
import { annotationKeys } from '../core/oci/annotations';
import { assembleIndex } from '../core/oci/assemble';
import { platformsOf, runnableImages, type ContentNode } from '../core/oci/content';
import { formatPlatform } from '../core/oci/platform';
import { releaseId } from '../core/release/entry';
import { wantedTags } from '../core/tags/rules';
import type { EnvironmentConfig, ImageConfig } from '../workspace/config';
import { readBuildFacts, type BuildFacts, type BuildOptions } from './build-facts';
import { deliver, identified, refuseWithoutTags, type DeliveryImage } from './deliver';
import { readLayout } from './locate';
import type { PublishResult } from './results';
import { withLedger, withProduct, type Session, type SessionOptions } from './session';

/** What `publish` is told. */
export interface PublishOptions extends SessionOptions, BuildOptions {
  dryRun?: true | undefined;
}

/**
 * Publishes the build outputs of a product to its first environment: uploads what the registry
 * lacks, assembles indexes of platforms that were built apart, and writes the tags.
 */
export async function publish(options: PublishOptions): Promise<PublishResult> {
  return withProduct(options, async (config, session) => {
    const [environment] = config.environments;
    const { product } = config;
    const dryRun = options.dryRun === true;
    const build = await readBuildFacts(config.folder, options);
    const images: DeliveryImage[] = [];
    for (const image of config.images) {
      images.push(await prepareImage(image, environment, session, product, build));
    }
    refuseWithoutTags(images, environment.name);
    const release = releaseId({ product, ...build, images: images.map(identified) });
    const delivered = await withLedger(config, dryRun ? 'read' : 'write', (ledger) =>
      deliver(
        {
          product,
          environment: environment.name,
          position: build,
          images,
          release,
          permit: () => undefined,
          action: (landing) => ({
            kind: 'published',
            release,
            commit: build.commit,
            version: build.version,
            branch: build.branch,
            environment: environment.name,
            ...landing,
          }),
        },
        { ledger, folder: config.folder, limit: session.limit, progress: session.observer.transfer, dryRun },
      ),
    );
    return {
      product,
      version: build.version ?? null,
      commit: build.commit,
      branch: build.branch ?? null,
      environment: environment.name,
      current: delivered.current,
      dryRun,
      images: delivered.images,
    };
  });
}

async function prepareImage(
  image: ImageConfig,
  environment: EnvironmentConfig,
  session: Session,
  product: string,
  build: BuildFacts,
): Promise<DeliveryImage> {
  const node = await readBuildOutput(image, build);
  const platforms = await platformsOf(node);
  const missing = image.platforms.map(formatPlatform).filter((platform) => !platforms.includes(platform));
  if (missing.length > 0) {
    throw new HodError('missing', {
      what:
        missing.length === 1
          ? 'a platform is missing from a build output'
          : 'platforms are missing from a build output',
      object: `${image.name}: ${missing.join(', ')}`,
      why: `hod.yaml asks for them, and ${image.from.join(', ')} holds ${platforms.join(', ') || 'none'}`,
      next: 'build them, or take them out of `platforms:` in hod.yaml',
    });
  }
  return {
    image: image.name,
    node,
    platforms,
    target: session.client(environment.repositoryOf(image.name)),
    tags: wantedTags(environment.rules, { product, ...build }, image.name),
  };
}

/** One build output as it is; several, each built for its own platform, as one index. */
async function readBuildOutput(image: ImageConfig, build: BuildFacts): Promise<ContentNode> {
  const outputs = await Promise.all(image.from.map(readLayout));
  const [only] = outputs;
  if (only !== undefined && outputs.length === 1) {
    return only;
  }
  const members = (await Promise.all(outputs.map(runnableImages))).flat();
  // The version is left out: one commit is one digest, whether it has its version yet or not.
  const { node } = assembleIndex(members, { [annotationKeys.revision]: build.commit });
  return node;
}
