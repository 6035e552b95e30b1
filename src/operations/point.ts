import { pointSafely } from '../core/deployment/point-safely';
import type { Pointed } from '../core/deployment/pointing';
import { HodError } from '../core/errors';
import { retiredTargetsIn, servedAsAdmitted, targetsIn } from '../inspect/served';
import { toPointResult, type PointResult } from '../results/point';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { environmentNamed, type EnvironmentConfig } from '../workspace/config';
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
export async function pointFiles({ files, check, ...options }: PointOptions): Promise<PointResult> {
  return withProduct(options, async (config, session) => {
    const environment = environmentNamed(config, options.environment);
    const all = await withLedger(config, session, 'read', async (ledger) => {
      await refuseEmpty(config, ledger);
      return servedAsAdmitted(config, environment, ledger);
    });
    const own = targetsIn(config, all.served);
    const retired = retiredTargetsIn(config, environment.name, all);
    // Where components share a repository, its references are those of the ones that are left.
    const targets = [
      ...own,
      ...retired.filter((each) => own.every(({ repository }) => repository !== each.repository)),
    ];
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
    return toPointResult({ product: config.product, environment: environment.name, check: check === true }, pointed);
  });
}

function refuseNothing(
  pointed: readonly (Pointed & { readonly path: string })[],
  { name }: EnvironmentConfig,
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
          why: [...new Set(left.map(({ why }) => why))].map((why) => `in ${name}: ${why}`),
          next: `correct these lines by hand, or promote to ${name} what it does not serve yet; nothing was written`,
        }
      : {
          what: 'nothing in these files names a component of the product',
          object: pointed.map(({ path }) => path),
          why: 'there is no reference to a repository of any environment in them',
          next: 'name the files that say what is deployed; `hod config show` lists the repositories',
        },
  );
}
