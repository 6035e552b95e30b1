import { HodError } from '../core/errors';
import { nearestName } from '../core/nearest';
import { annotationKeys } from '../core/oci/annotations';
import { runnableImages, type ContentNode } from '../core/oci/content';
import { formatPlatform } from '../core/oci/platform';
import type { Claim } from '../core/release/right-build';
import type { Requirement } from '../core/release/staging';
import { readBundle } from '../layout/bundle';
import type { BundleConfig, Config, ImageConfig } from '../workspace/config';
import { readLayout } from './locate';

/** An image or a bundle of a product. */
export type ProductPart = ImageConfig | BundleConfig;

/** A build output, read. */
export interface Output {
  readonly node: ContentNode;
  readonly platforms: readonly string[];
  /** What the images in it say of themselves. */
  readonly claims: readonly Claim[];
}

/** Every image and bundle of a product. */
export function partsOf(config: Config): ProductPart[] {
  return [...config.images, ...config.bundles];
}

/** An image or bundle by its name. Throws a `usage` error, with the nearest name, where there is none. */
export function partNamed(config: Config, name: string): ProductPart {
  const all = partsOf(config);
  const found = all.find((part) => part.name === name);
  if (found === undefined) {
    const names = all.map((part) => part.name);
    const nearest = nearestName(name, names);
    throw new HodError('usage', {
      what: 'there is no such image or bundle',
      object: name,
      why: `${config.file} has none of this name`,
      next: nearest === undefined ? `there are ${names.join(', ')}` : `the nearest is ${nearest}`,
    });
  }
  return found;
}

/** Reads a build output of an image, or the files of a bundle. */
export function readOutput(part: ProductPart, path: string): Promise<Output> {
  return 'files' in part ? readBundleOutput(part) : readImageOutput(part.name, path);
}

/** What hod.yaml asks of an image or bundle. */
export function requirementOf(part: ProductPart): Requirement {
  return 'files' in part
    ? { platforms: [], outputs: 1 }
    : { platforms: part.platforms.map(formatPlatform), outputs: part.from.length };
}

/** `path` or `path#entry`. */
async function readImageOutput(image: string, path: string): Promise<Output> {
  return outputOf(image, await readLayout(path));
}

async function readBundleOutput({ name, files }: BundleConfig): Promise<Output> {
  return { node: await readBundle(name, files), platforms: [], claims: [] };
}

/** What a person asks of content that is to be published. */
export async function outputOf(image: string, node: ContentNode): Promise<Output> {
  const runnable = await runnableImages(node);
  const { annotations } = node.manifest;
  const index = {
    label: image,
    revision: annotations[annotationKeys.revision],
    version: annotations[annotationKeys.version],
  };
  const claims = runnable.map(({ platform, revision, version }): Claim => {
    return { label: `${image} for ${formatPlatform(platform)}`, revision, version };
  });
  const platforms = runnable.map(({ platform }) => formatPlatform(platform));
  return { node, platforms, claims: node.manifest.kind === 'index' ? [index, ...claims] : claims };
}
