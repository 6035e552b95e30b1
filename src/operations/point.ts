import { pointSafely } from '../core/deployment/point-safely';
import type { Target } from '../core/deployment/parts';
import type { Pointed } from '../core/deployment/pointing';
import { HodError } from '../core/errors';
import type { RepositoryName } from '../core/oci/reference';
import { retiredTargetsIn, servedAsAdmitted, targetsIn } from '../inspect/served';
import { toPointResult, type PointResult } from '../results/point';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { environmentNamed } from '../workspace/config';
import { configsNamed, overProducts, type ProductRun } from './products';
import { readDeploymentFile, writeDeploymentFiles } from '../workspace/deployment-files';

/** What `point` is told. */
export interface PointOptions extends SessionOptions {
  environment: string;
  files: readonly string[];
  /** Only say what is not as it should be. */
  check?: true | undefined;
}

/**
 * Points the references to a product's repositories in deployment files at the digests that an environment serves. Writes all of
 * the files, or none.
 *
 * Throws `nothing-to-point` where no file has such a reference, or one cannot be pointed.
 */
export async function pointFiles({ files, environment, check, ...options }: PointOptions): Promise<PointResult> {
  const products = await servedByProducts(environment, options);
  const targets = joinedTargets(products);
  const pointed = await Promise.all(
    [...new Set(files)].map(async (path) => {
      const file = await readDeploymentFile(path);
      return { path, file, ...pointSafely(file, targets) };
    }),
  );
  refuseNothing(pointed, environment, check === true);
  if (check !== true) {
    await writeDeploymentFiles(pointed.filter(({ changes }) => changes.length > 0));
  }
  const names = products.map(({ product }) => product);
  return toPointResult({ products: names, environment, check: check === true }, pointed);
}

/** A product, and where its references are to lead. */
interface PointedProduct {
  readonly product: string;
  readonly targets: readonly Target[];
}

/** What an environment serves of the product, or of all that the configuration matches. Throws where one of them cannot be read. */
async function servedByProducts(environment: string, options: SessionOptions): Promise<PointedProduct[]> {
  const configs = options.config === undefined ? undefined : await configsNamed(options.config);
  if (configs === undefined) {
    return [await servedByProduct(environment, options)];
  }
  const products: PointedProduct[] = [];
  const working = (run: ProductRun): Promise<PointedProduct> => servedByProduct(environment, { ...options, ...run });
  for await (const outcome of overProducts(configs, { ...options, together: false }, working)) {
    if ('error' in outcome) {
      throw outcome.error;
    }
    products.push(outcome.result);
  }
  return products;
}

function servedByProduct(environment: string, options: SessionOptions): Promise<PointedProduct> {
  return withProduct(options, async (config, session) => {
    const { name } = environmentNamed(config, environment);
    const all = await withLedger(config, session, 'read', async (ledger) => {
      await refuseEmpty(config, ledger);
      return servedAsAdmitted(config, environmentNamed(config, name), ledger);
    });
    const own = targetsIn(config, all.served);
    const retired = retiredTargetsIn(config, name, all);
    // Where components share a repository, its references are those of the ones that are left.
    const others = retired.filter((each) => own.every(({ repository }) => repository !== each.repository));
    return { product: config.product, targets: [...own, ...others] };
  });
}

/** The targets of all products. Throws `products-disagree` where two of them serve different content from one repository. */
function joinedTargets(products: readonly PointedProduct[]): Target[] {
  const joined = new Map<RepositoryName, { product: string; target: Target }>();
  for (const { product, targets } of products) {
    for (const target of targets) {
      const known = joined.get(target.repository);
      if (known?.target.serves === undefined) {
        joined.set(target.repository, { product, target });
      } else if (target.serves !== undefined && target.serves.digest !== known.target.serves.digest) {
        throw new HodError('products-disagree', {
          what: 'two products serve different content from one repository',
          object: target.repository,
          why: `${known.product} serves ${known.target.serves.name} from it, and ${product} serves ${target.serves.name}`,
          next: 'update the references of each product by itself: name one hod.yaml with -c',
        });
      }
    }
  }
  return [...joined.values()].map(({ product, target }) => (products.length > 1 ? ofProduct(product, target) : target));
}

/** Names the product of a component, where there are several. */
function ofProduct(product: string, target: Target): Target {
  const { component, variants } = target;
  return {
    ...target,
    component: `${product}/${component}`,
    ...(variants === undefined
      ? {}
      : { variants: variants.map((each) => ({ ...each, target: ofProduct(product, each.target) })) }),
  };
}

function refuseNothing(
  pointed: readonly (Pointed & { readonly path: string })[],
  environment: string,
  check: boolean,
): void {
  const found = pointed.some(
    ({ changes, left: own, right, retired }) => changes.length + own.length + right + retired.length > 0,
  );
  const withPath = (of: 'left' | 'unclear') =>
    pointed.flatMap(({ path, ...each }) => each[of].map((own) => ({ ...own, path })));
  // What was not understood is told beside what was; by itself there is nothing to point.
  const left = found || check ? withPath('left') : withPath('unclear');
  // A check says what cannot be pointed beside what is stale.
  if ((found && left.length === 0) || (check && (found || withPath('unclear').length > 0))) {
    return;
  }
  throw new HodError(
    'nothing-to-point',
    left.length > 0
      ? {
          what: 'a reference cannot be pointed',
          object: left.map(({ path, line, object }) => `${path}:${line} ${object}`),
          why: [...new Set(left.map(({ why }) => why))].map((why) => `in ${environment}: ${why}`),
          next: `correct these lines by hand, or promote to ${environment} what it does not serve yet; nothing was written`,
        }
      : {
          what: 'nothing in these files names a component of the product',
          object: pointed.map(({ path }) => path),
          why: 'there is no reference to a repository of any environment in them',
          next: 'name the files that say what is deployed; `hod config show` lists the repositories',
        },
  );
}
