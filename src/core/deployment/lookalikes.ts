import { parseRepository } from '../oci/reference';
import type { Found, Range, Spot, Target, Unpointed } from './parts';

/** Keys whose values are images, or repositories of images. */
const imageKey = /image|repository/i;

/** A repository whose registry stands in a value of its own beside it, and is one of the product; undefined for all others. */
export function splitReference(text: string, spot: Spot, targets: readonly Target[]): Found | undefined {
  const { registry, start, end } = spot;
  if (registry === undefined) {
    return undefined;
  }
  const [, path = '', tag, digest] =
    /^([^:@]+)(?::([\w.-]+))?(?:@(\w+:[0-9a-f]+))?$/.exec(text.slice(start, end)) ?? [];
  const whole = `${text.slice(registry.start, registry.end).replace(/\/$/, '')}/${path}`;
  const target = targets.find(({ repository }) => repository === whole);
  return target && { target, tag, digest, start, end, registry };
}

/** The paths of the product's repositories, without their registries, and the components that they are of. */
export type ProductPaths = ReadonlyMap<string, string>;

/** Returns the paths of the repositories of a product. */
export function pathsOf(targets: readonly Target[]): ProductPaths {
  return new Map(targets.map(({ component, repository }) => [parseRepository(repository).name, component]));
}

/**
 * Finds what names a repository of the product by its path alone: without a registry, or behind something that is none, such
 * as a template. Where that leads is not known here.
 */
export function unclearIn(
  text: string,
  spot: Spot,
  found: readonly Range[],
  { paths, targets }: { readonly paths: ProductPaths; readonly targets: readonly Target[] },
): (Omit<Unpointed, 'line'> & { readonly start: number })[] {
  const part = text.slice(spot.start, spot.end);
  const isImage = imageKey.test(spot.key ?? '') || spot.tag !== undefined || spot.digest !== undefined;
  return [...paths].flatMap(([path, component]) => {
    const at = part.indexOf(path);
    const start = spot.start + at;
    const behind = part.slice(at + path.length);
    const version = /^(?::[\w.-]+)?(?:@\w+:[0-9a-f]+)?/.exec(behind)?.[0] ?? '';
    const isWhole = /(?:^|[/\s"'=])$/.test(part.slice(0, Math.max(0, at))) && !/^[\w./-]/.test(behind);
    const isMeant = isImage || (version !== '' && path.includes('/'));
    const isFound = found.some((each) => each.start <= start && each.end >= start);
    const isPath = !path.includes('/') && part !== path + version;
    return at < 0 || !isWhole || !isMeant || isFound || isPath || isOfOthers(part, at, targets)
      ? []
      : [
          {
            component,
            start,
            object: part.slice(at, at + path.length + version.length),
            why: 'its registry is not named beside it: write it out there',
          },
        ];
  });
}

/** Whether a path stands behind the host of a registry that the product has nothing in. */
function isOfOthers(part: string, at: number, targets: readonly Target[]): boolean {
  const host = /([A-Za-z0-9.-]+(?::\d+)?)\/(?:[\w.-]+\/)*$/.exec(part.slice(0, at))?.[1];
  return (
    host !== undefined && /[.:]/.test(host) && !targets.some(({ repository }) => repository.startsWith(`${host}/`))
  );
}

/** Whether a value is an image of somebody else. */
export function isOther(text: string, { key = '', start, end }: Spot, paths: ProductPaths): boolean {
  const value = text.slice(start, end);
  return (
    /image$/i.test(key) &&
    /^[a-z0-9][\w.-]*(?::\d+)?(?:\/[\w.-]+)*(?::[\w.-]+)?(?:@\w+:[0-9a-f]+)?$/.test(value) &&
    ![...paths.keys()].some((path) => value.includes(path))
  );
}
