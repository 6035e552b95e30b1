import pLimit from 'p-limit';
import { HodError } from '../core/errors';
import type { ReleaseLife } from '../core/insight/figures';
import type { PlacedComponent } from '../core/ledger/release';
import { readContent, runnableImages } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { parseRepository } from '../core/oci/reference';
import type { Session } from '../session/session';
import type { Config } from '../workspace/config';
import { isNamed } from './status';

/** Bytes of a component, by its versions. */
export interface ComponentSizes {
  readonly component: string;
  readonly points: { readonly version: string; readonly bytes: number }[];
}

/** So many versions of each component are measured, and never more than so many components in all. */
const [mostVersions, mostMeasured] = [20, 400];

/** How large components were, over the latest versions. What cannot be read is left out. */
export async function sizesOf(
  releases: readonly ReleaseLife[],
  config: Config,
  session: Session,
): Promise<ComponentSizes[]> {
  const names = config.components.map(({ name }) => name);
  const count = Math.max(2, Math.min(mostVersions, Math.floor(mostMeasured / Math.max(1, names.length))));
  const versions = releases.filter(({ version }) => version !== undefined).slice(-count);
  const [first] = config.environments;
  const known = new Map<Digest, Promise<number | undefined>>();
  const turn = pLimit(16);
  const sizes = names.map(async (component) => {
    const points = versions.map(async ({ version = '', components }) => {
      const placed = components.find((each) => each.component === component);
      if (placed === undefined || !isNamed(placed, first)) {
        return [];
      }
      const measured = known.get(placed.digest) ?? turn(() => sizeOf(placed, session));
      known.set(placed.digest, measured);
      const bytes = await measured;
      return bytes === undefined ? [] : [{ version, bytes }];
    });
    return { component, points: (await Promise.all(points)).flat() };
  });
  return (await Promise.all(sizes)).filter(({ points }) => points.length > 0);
}

/** Bytes of the layers of a component, for the platform for which it is largest; undefined where that cannot be read. */
async function sizeOf(placed: PlacedComponent, session: Session): Promise<number | undefined> {
  try {
    const node = await readContent(session.client(parseRepository(placed.repository)), placed);
    const components = await runnableImages(node);
    const own = components.map(({ manifest }) => manifest.layers.reduce((sum, { size }) => sum + size, 0));
    return own.length === 0 ? undefined : Math.max(...own);
  } catch (error) {
    if (error instanceof HodError) {
      return undefined;
    }
    throw error;
  }
}
