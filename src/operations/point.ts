import { shortCommit } from '../core/commit';
import { point, type Pointed, type Target } from '../core/deployment/pointing';
import { readsTheSame } from '../core/deployment/spots';
import { HodError } from '../core/errors';
import { formatRepository, type RepositoryName } from '../core/oci/reference';
import { servedIn } from '../core/ledger/environment';
import type { FactKey, ServedImage } from '../core/ledger/facts';
import { wasAdmitted } from '../core/release/gates/way-in';
import { refuseUnmet } from '../core/release/refusal';
import type { Ledger } from '../ledger/ledger';
import type { PointResult } from '../results/point';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { environmentNamed, wayInto, type Config, type EnvironmentConfig } from '../workspace/config';
import { readDeploymentFile, writeDeploymentFiles, type DeploymentFile } from '../workspace/deployment-files';

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
    const served = await withLedger(config, session, 'read', async (ledger) => {
      await refuseEmpty(config, ledger);
      const { facts } = await ledger.read([{ kind: 'environment', key: environment.name }]);
      const all = servedIn(facts, environment.name).filter(({ image }) =>
        config.components.some(({ name }) => name === image),
      );
      await refuseUnadmitted(all, environment, ledger);
      return all;
    });
    const targets = targetsIn(config, served);
    const pointed = await Promise.all(
      [...new Set(files)].map(async (path) => {
        const file = await readDeploymentFile(path);
        return { path, file, ...checked(file, point(file.text, file.spots, targets)) };
      }),
    );
    refuseNothing(pointed, environment, check === true);
    if (check !== true) {
      await writeDeploymentFiles(pointed.filter(({ changes }) => changes.length > 0));
    }
    return {
      product: config.product,
      environment: environment.name,
      check: check === true,
      files: pointed.map(({ path, file, text, changes, left, right }) => {
        const [before, after] = [file.text, text].map((each) => each.split(/\r?\n/));
        return {
          file: path,
          written: check !== true && changes.length > 0,
          right,
          changes: changes.map((change) => ({
            ...change,
            before: before?.[change.line - 1] ?? '',
            after: after?.[change.line - 1] ?? '',
          })),
          left: [...left],
        };
      }),
    };
  });
}

/** What is written must read as before but for what was pointed; where it does not, nothing of the file is. */
function checked(file: DeploymentFile, pointed: Pointed): Pointed {
  const { text, changes, edits } = pointed;
  if (!file.spots.isDocument || changes.length === 0 || readsTheSame(file.text, text, edits)) {
    return pointed;
  }
  const why = 'written so, the file would read otherwise elsewhere too: write its reference in another form';
  const left = changes.map(({ image, line, from }) => ({ image, line, object: from, why }));
  return { ...pointed, text: file.text, changes: [], edits: [], left: [...pointed.left, ...left] };
}

/** Refuses where the environment serves something that did not come into it as hod.yaml says: nothing is to be pointed to that. */
async function refuseUnadmitted(
  served: readonly ServedImage[],
  environment: EnvironmentConfig,
  ledger: Ledger,
): Promise<void> {
  const { facts } = await ledger.read(served.map(({ release }): FactKey => ({ kind: 'release', key: release })));
  refuseUnmet(
    served.flatMap((each) => {
      const release = facts.get('release', each.release);
      return release === undefined ? [] : [wasAdmitted(each, release, wayInto(environment))];
    }),
  );
}

/** Every repository of the product, whatever environment it is of. */
function targetsIn({ components, environments }: Config, served: readonly ServedImage[]): Target[] {
  const targets = new Map<RepositoryName, Target>();
  for (const { name: image } of components) {
    const own = served.find((each) => each.image === image);
    const serves = own && { repository: own.repository, digest: own.digest, name: nameOf(own) };
    for (const each of environments) {
      const repository = formatRepository(each.repositoryOf(image));
      targets.set(repository, { image, repository, serves });
    }
  }
  return [...targets.values()];
}

/** What people call it: the tag of its version, where it has one. */
function nameOf({ version, commit, tags }: ServedImage): string {
  const tag = tags.find((each) => each === version?.replace('+', '_')) ?? tags[0];
  return tag ?? shortCommit(commit);
}

function refuseNothing(
  pointed: readonly (Pointed & { readonly path: string })[],
  { name }: EnvironmentConfig,
  check: boolean,
): void {
  const found = pointed.some(({ changes, left, right }) => changes.length + left.length + right > 0);
  const left = pointed.flatMap(({ path, left: own }) => own.map((each) => ({ ...each, path })));
  // A check says what cannot be pointed beside what is stale.
  if (found && (left.length === 0 || check)) {
    return;
  }
  throw new HodError('nothing-to-point', {
    what: found ? 'a reference cannot be pointed' : 'nothing in these files names an image of the product',
    object: found ? left.map(({ path, line, object }) => `${path}:${line} ${object}`) : pointed.map(({ path }) => path),
    why: found
      ? [...new Set(left.map(({ why }) => why))].map((why) => `in ${name}: ${why}`)
      : 'there is no reference to a repository of any environment in them',
    next: found
      ? `correct these lines by hand, or promote to ${name} what it does not serve yet; nothing was written`
      : 'name the files that say what is deployed; `hod config show` lists the repositories',
  });
}
