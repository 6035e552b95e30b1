import { outputParcel } from '../../archive/output';
import type { BuildOptions } from '../../core/build/build';
import { HodError } from '../../core/errors';
import { verifyParcel, type ParcelDocument } from '../../core/ledger/parcel-document';
import type { ParcelRelease } from '../../core/release/gates/receiving';
import { describePosition } from '../../core/tags/ordering';
import { timestampOf } from '../../core/time';
import type { TrustedSigners } from '../../core/trust/signer';
import type { ComponentConfig } from '../../workspace/config';
import type { GatheredItem } from './gather';

/**
 * Reads what a parcel of a product says of its releases.
 *
 * @throws {@link HodError} `parcel-unrecognised` for a layout that is none; `other-product`
 */
export async function readParcelDocument(path: string, product: string): Promise<ParcelDocument> {
  const found = await outputParcel(path);
  const document = found?.document;
  if (document === undefined) {
    throw new HodError('parcel-unrecognised', {
      what: 'this is no parcel of a release',
      object: path,
      why:
        found === undefined
          ? 'it is an image layout, and does not say which release is in it'
          : 'what it says of its release cannot be read, or contradicts itself',
      next: 'write it with `hod pack ENV --out PLACE`; images without a release are published with --from',
    });
  }
  if (document.product !== product) {
    throw new HodError('other-product', {
      what: 'this parcel is of another product',
      object: path,
      why: `it holds ${document.product}, and hod.yaml describes ${product}`,
      next: 'name the parcel, or the hod.yaml (--config), of the same product',
    });
  }
  return document;
}

/**
 * Reads what a parcel says of the one release in it, and who signed that.
 *
 * @throws {@link HodError} as {@link readParcelDocument}; `two-releases`
 */
export async function readParcel(path: string, product: string, trust: TrustedSigners): Promise<ParcelRelease> {
  const document = await readParcelDocument(path, product);
  const { releases } = document;
  const [read, ...others] = releases;
  if (read === undefined || others.length > 0) {
    throw new HodError('two-releases', {
      what: 'this parcel does not hold one release',
      object: path,
      why: `it holds ${releases.map(({ record }) => describePosition(record)).join(', ') || 'none'}`,
      next: 'pack each release by itself: `hod pack VERSION --out PLACE`',
    });
  }
  const { record: release } = read;
  return { path, document, release, signed: verifyParcel(read, document, trust, timestampOf(new Date())) };
}

/** Takes all components from a parcel. */
export function fromParcel(components: readonly ComponentConfig[], { path }: ParcelRelease): ComponentConfig[] {
  return components.map(({ name, was, inputs, publishAlone, ...component }) => ({
    ...{ kind: 'image', name, was, inputs, publishAlone, compression: 'none' },
    platforms: 'platforms' in component ? component.platforms : [],
    outputs: [{ kind: 'path', path: `${path}#${name}` }],
  }));
}

/**
 * Describes the build that a parcel's release is of.
 *
 * @throws {@link HodError} `options-conflict` where options say that, too.
 */
export function buildOfParcel({ release }: ParcelRelease, options: BuildOptions & { from?: unknown }): BuildOptions {
  const { commit, branch, build, run, version, next, line, from } = options;
  const given = Object.entries({ commit, branch, build, run, version, next, line, from }).filter(
    ([, value]) => value !== undefined,
  );
  if (given.length > 0) {
    throw new HodError('options-conflict', {
      what: 'a parcel says which release is in it',
      object: given.map(([name]) => `--${name}`).join(' '),
      why: `it holds ${describePosition(release)}, and this says something else`,
      next: 'leave these options out',
    });
  }
  const { pullRequest, ...record } = release;
  return {
    commit: record.commit,
    version: record.version,
    branch: pullRequest === true ? undefined : record.branch,
    build: record.build,
    run: record.run,
  };
}

/**
 * Checks that the content of a parcel is that of its release.
 *
 * @throws {@link HodError} `content-corrupt`
 */
export function checkParcel({ path, release }: ParcelRelease, items: readonly GatheredItem[]): void {
  const named = items.map(({ component, node }) => ({
    component,
    digest: node.manifest.digest,
    recorded: release.components.find((each) => each.component === component)?.digest,
  }));
  const other = named.filter(({ digest, recorded }) => digest !== recorded);
  if (other.length > 0) {
    throw new HodError('content-corrupt', {
      what: 'the parcel does not hold what its release names',
      object: other.map(({ component }) => `${component} in ${path}`),
      why: other.map(
        ({ component, digest, recorded }) =>
          `${describePosition(release)} has ${recorded ?? `no ${component}`}, and the parcel ${digest}`,
      ),
      next: 'pack the release again; nothing was tagged',
    });
  }
}
