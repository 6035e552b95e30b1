import { HodError } from '../errors';
import type { Companion } from './assemble';
import type { ContentNode, RunnableImage } from './content';
import { platformKey, type Platform } from './platform';

/** A member of an index to be, as somebody named it, and what is there. */
export interface NamedMember {
  /** As it was named. */
  readonly name: string;
  /** The platform that it must be for, where one was named. */
  readonly platform: Platform | undefined;
  readonly node: ContentNode;
  readonly images: readonly RunnableImage[];
}

/** What becomes of an index: its members one by one. */
export interface IndexChange {
  readonly add: readonly NamedMember[];
  /** Each with the platform whose member it takes the place of. */
  readonly replace: readonly NamedMember[];
  readonly drop: readonly Platform[];
}

/** What an index is to be made of. */
export interface IndexContent {
  readonly images: readonly RunnableImage[];
  readonly companions: readonly Companion[];
}

/** Everything that members hold. Throws where one is not what it was named for. */
export function contentOfMembers(members: readonly NamedMember[]): IndexContent {
  members.forEach(refuseOther);
  return { images: members.flatMap(({ images }) => images), companions: members.flatMap(companionsOf) };
}

/**
 * An index, changed: what is dropped or replaced is gone, with what accompanied it. Throws `missing` for a platform that is
 * not there, `refused` for one that is there already.
 */
export function changeIndex(base: NamedMember, { add, replace, drop }: IndexChange): IndexContent {
  const { images, companions } = contentOfMembers([base]);
  const there = new Map(images.map((image) => [platformKey(image.platform), image]));
  const leaving = [...drop, ...replace.flatMap(({ platform }) => platform ?? [])];
  const unknown = leaving.map(platformKey).filter((key) => !there.has(key));
  if (unknown.length > 0) {
    throw new HodError('platform-missing', {
      what: 'the index has no member for this',
      object: unknown.join(', '),
      why: `${base.name} has ${[...there.keys()].sort().join(', ')}`,
      next: 'name a platform that it has, or add one with --add',
    });
  }
  const gone = new Set(leaving.map((platform) => there.get(platformKey(platform))?.manifest.digest));
  const kept = images.filter(({ manifest }) => !gone.has(manifest.digest));
  const coming = contentOfMembers([...add, ...replace]);
  return {
    images: [...kept, ...coming.images],
    companions: [
      ...companions.filter(({ descriptor }) => {
        const about = [...(descriptor.annotations?.values() ?? [])];
        return ![...gone].some((digest) => digest !== undefined && about.includes(digest));
      }),
      ...coming.companions,
    ],
  };
}

/** Throws `missing` where a platform that is required is not there. */
export function requirePlatforms(images: readonly RunnableImage[], required: readonly Platform[]): void {
  const there = images.map(({ platform }) => platformKey(platform));
  const missing = required.map(platformKey).filter((key) => !there.includes(key));
  if (missing.length > 0) {
    throw new HodError('platform-missing', {
      what: 'a platform is missing',
      object: missing.join(', '),
      why: `the members are for ${[...there].sort().join(', ') || 'no platform'}`,
      next: 'name a member for it, or wait for the job that builds it with --wait 10m',
    });
  }
}

/** What stands in an index beside images that run. */
export function companionsOf({ node, images }: Pick<NamedMember, 'node' | 'images'>): Companion[] {
  const { manifest } = node;
  const running = new Set(images.map((image) => image.manifest.digest));
  return manifest.kind !== 'index'
    ? []
    : manifest.manifests.flatMap((descriptor): Companion[] => {
        const child = node.children.find((each) => each.manifest.digest === descriptor.digest);
        return child === undefined || child.manifest.kind === 'index' || running.has(descriptor.digest)
          ? []
          : [{ descriptor, node: child }];
      });
}

function refuseOther({ name, platform, images }: NamedMember): void {
  if (images.length === 0) {
    throw new HodError('nothing-to-assemble', {
      what: 'a member holds nothing to assemble',
      object: name,
      why: 'there is no image in it that runs somewhere',
      next: 'name a build output or a reference of an image',
    });
  }
  const other = images.find((image) => platform !== undefined && platformKey(image.platform) !== platformKey(platform));
  if (platform !== undefined && other !== undefined) {
    throw new HodError('platform-contradicted', {
      what: 'a member is for another platform than it was named for',
      object: name,
      why: `it was named for ${platformKey(platform)}, and its config says ${platformKey(other.platform)}`,
      next: 'build it for the platform that it is to run on, or name it for its own',
    });
  }
}
