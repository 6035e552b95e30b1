import { annotationKeys } from './annotations';
import type { RunnableImage } from './content';
import type { Descriptor } from './descriptor';
import type { Digest } from './digest';
import { looksLikeSecret } from './environment';
import { platformKey } from './platform';

/** Something that one image says of itself and another says otherwise; undefined where one of them does not say it. */
export interface SaidDifference {
  /** `label`, `environment`, `entrypoint`, `command`, `user`, `folder`, `ports`, `base`. */
  readonly what: string;
  /** The key of a label or the name of a variable; empty for what there is one of. */
  readonly name: string;
  readonly from: string | undefined;
  readonly to: string | undefined;
}

/** What differs for one platform. */
export interface PlatformDifference {
  readonly platform: string;
  readonly from: { readonly digest: Digest; readonly size: number };
  readonly to: { readonly digest: Digest; readonly size: number };
  readonly layers: {
    readonly added: readonly Descriptor[];
    readonly removed: readonly Descriptor[];
    /** How many both have. */
    readonly shared: number;
  };
  readonly says: readonly SaidDifference[];
}

/** What differs between two images, each for some platforms. */
export interface ImageDifference {
  readonly added: readonly string[];
  readonly removed: readonly string[];
  readonly changed: readonly PlatformDifference[];
}

/** Compares images platform by platform. */
export function compareImages(from: readonly RunnableImage[], to: readonly RunnableImage[]): ImageDifference {
  const [before, after] = [from, to].map(
    (images) => new Map(images.map((image) => [platformKey(image.platform), image])),
  );
  const known = (images: ReadonlyMap<string, RunnableImage> | undefined): string[] => [...(images?.keys() ?? [])];
  return {
    added: known(after).filter((platform) => before?.has(platform) !== true),
    removed: known(before).filter((platform) => after?.has(platform) !== true),
    changed: known(before).flatMap((platform): PlatformDifference[] => {
      const [one, other] = [before?.get(platform), after?.get(platform)];
      return one === undefined || other === undefined || one.manifest.digest === other.manifest.digest
        ? []
        : [comparePlatform(platform, one, other)];
    }),
  };
}

function comparePlatform(platform: string, from: RunnableImage, to: RunnableImage): PlatformDifference {
  const [before, after] = [layersOf(from), layersOf(to)];
  const [one, other] = [saidBy(from), saidBy(to)];
  return {
    platform,
    from: { digest: from.manifest.digest, size: sum(before) },
    to: { digest: to.manifest.digest, size: sum(after) },
    layers: {
      added: [...after.values()].filter(({ digest }) => !before.has(digest)),
      removed: [...before.values()].filter(({ digest }) => !after.has(digest)),
      shared: [...after.keys()].filter((digest) => before.has(digest)).length,
    },
    says: [...new Set([...one.keys(), ...other.keys()])]
      .filter((key) => one.get(key) !== other.get(key))
      .map((key) => {
        const [what = '', name = ''] = key.split('\n');
        const mask = (value: string | undefined): string | undefined =>
          value !== undefined && what === 'environment' && looksLikeSecret(name, value) ? '…' : value;
        return { what, name, from: mask(one.get(key)), to: mask(other.get(key)) };
      }),
  };
}

function layersOf({ manifest }: RunnableImage): Map<Digest, Descriptor> {
  return new Map(manifest.layers.map((layer) => [layer.digest, layer]));
}

function sum(layers: ReadonlyMap<Digest, Descriptor>): number {
  return [...layers.values()].reduce((all, { size }) => all + size, 0);
}

/** What an image says of itself, by what it is about and its name. That each is of a commit of its own goes without saying. */
function saidBy({ config, manifest }: RunnableImage): Map<string, string> {
  const said = new Map<string, string>();
  const add = (what: string, name: string, value: string | undefined): void => {
    if (value !== undefined && value !== '') {
      said.set(`${what}\n${name}`, value);
    }
  };
  const ofBuild: readonly string[] = [annotationKeys.revision, annotationKeys.version, annotationKeys.created];
  config?.labels.forEach((value, key) => {
    if (!ofBuild.includes(key)) {
      add('label', key, value);
    }
  });
  const runs = config?.runs;
  runs?.environment.forEach((text) => {
    const equals = text.indexOf('=');
    add('environment', text.slice(0, equals), text.slice(equals + 1));
  });
  add('entrypoint', '', runs?.entrypoint.join(' '));
  add('command', '', runs?.command.join(' '));
  add('user', '', runs?.user);
  add('folder', '', runs?.workingFolder);
  add('ports', '', runs && [...runs.ports].sort().join(' '));
  add('base', '', manifest.annotations.get(annotationKeys.baseName));
  return said;
}
