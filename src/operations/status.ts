import { HodError } from '../core/errors';
import { servedIn } from '../core/release/coming';
import { driftOf, type Drift } from '../core/release/drift';
import { tagKey, type FactKey, type Facts, type ServedImage } from '../core/release/facts';
import { formatRepository, parseRepository } from '../core/oci/reference';
import type { StatusResult } from '../results/status';
import { ledgerLabel, withLedger } from '../session/open-ledger';
import { undelivered } from '../delivery/announcing';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import { basesOf } from './status-bases';
import { environmentNamed, type Config, type EnvironmentConfig } from '../workspace/config';

/** What `status` is told. */
export interface StatusOptions extends SessionOptions {
  /** The environments to show; all where none is named. */
  environments: readonly string[];
  /** Ask what the images were built on. */
  bases?: true | undefined;
}

/** What each environment serves by the ledger, and whether the registries still agree. */
export async function status(options: StatusOptions): Promise<StatusResult> {
  return withProduct(options, async (config, session) => {
    const environments =
      options.environments.length === 0
        ? config.environments
        : options.environments.map((name) => environmentNamed(config, name));
    return withLedger(config, session, 'read', async (ledger) => {
      const keys = environments.map(({ name }): FactKey => ({ kind: 'environment', key: name }));
      const { head, facts } = await ledger.read(keys);
      const served = environments.map(({ name }) => ({ name, images: servedIn(facts, name) }));
      const tags = served.flatMap(({ images }) =>
        images.flatMap((image) => image.tags.map((tag) => keyOf(image, tag))),
      );
      const recorded = (await ledger.read(tags)).facts;
      const rows = await Promise.all(
        served.map(async ({ name, images }) => ({
          environment: name,
          images: await Promise.all(images.map((image) => rowOf(image, name, recorded, config, session))),
        })),
      );
      return {
        product: config.product,
        ledger: { place: ledgerLabel(config), entries: head.seq },
        environments: rows,
        bases: options.bases === true ? await basesOf(rows, config, session) : null,
        announcements: await undelivered(config, ledger),
      };
    });
  });
}

async function rowOf(served: ServedImage, environment: string, recorded: Facts, config: Config, session: Session) {
  const { image, repository, version, commit, digest, since, by } = served;
  // A host that only the ledger names is not asked: whoever can write there must not send us anywhere.
  const drift: Drift = isNamed(served, environmentNamed(config, environment))
    ? await findDrift(served, recorded, session)
    : { state: 'unknown', detail: `hod.yaml no longer names ${repository}; it was not asked` };
  return { image, repository, version: version ?? null, commit, digest, since, by, drift: { ...drift } };
}

/** Whether hod.yaml leads to the repository that the ledger names. */
function isNamed({ image, repository }: ServedImage, environment: EnvironmentConfig): boolean {
  try {
    return formatRepository(environment.repositoryOf(image)) === repository;
  } catch (error) {
    if (error instanceof HodError) {
      return false;
    }
    throw error;
  }
}

function keyOf({ repository }: ServedImage, tag: ServedImage['tags'][number]): FactKey {
  return { kind: 'tag', key: tagKey(repository, tag) };
}

/** Asks the registry about an image that an environment serves. */
async function findDrift(served: ServedImage, recorded: Facts, session: Session): Promise<Drift> {
  const { manifests } = session.client(parseRepository(served.repository));
  try {
    const [content, ...tags] = await Promise.all([
      manifests.resolve(served.digest),
      ...served.tags.map((tag) => manifests.resolve(tag)),
    ]);
    const comparisons = served.tags.flatMap((tag, at) => {
      const target = recorded.get('tag', keyOf(served, tag).key);
      // What is gone by decision may stand there still, where a registry removes no tags.
      const wanted = target?.gone === true ? undefined : (target?.digest ?? served.digest);
      return wanted === undefined ? [] : [{ tag, recorded: wanted, served: tags[at] }];
    });
    return driftOf(served.digest, content !== undefined, comparisons);
  } catch (error) {
    if (error instanceof HodError) {
      return { state: 'unknown', detail: error.message };
    }
    throw error;
  }
}
