import { HodError } from '../core/errors';
import { tagKey, type FactKey, type Facts, type RunningImage } from '../core/release/facts';
import { shortDigest, type Digest } from '../core/oci/digest';
import { parseRepository } from '../core/oci/reference';
import type { Tag } from '../core/tags/tag';
import { environmentNamed } from '../workspace/config';
import type { StatusResult } from './results';
import { withLedger, withProduct, type Session, type SessionOptions } from './session';

/** What `status` is told. */
export interface StatusOptions extends SessionOptions {
  /** The environments to show; all where none is named. */
  environments: readonly string[];
}

type EnvironmentStatus = StatusResult['environments'][number];
type Drift = EnvironmentStatus['images'][number]['drift'];

/** What runs in each environment by the ledger, and whether the registries still agree. */
export async function status(options: StatusOptions): Promise<StatusResult> {
  return withProduct(options, async (config, session) => {
    const environments =
      options.environments.length === 0
        ? config.environments
        : options.environments.map((name) => environmentNamed(config, name));
    return withLedger(config, 'read', async (ledger) => {
      const keys = environments.map(({ name }): FactKey => ({ kind: 'environment', key: name }));
      const { facts } = await ledger.read(keys);
      const rows = environments.flatMap(({ name }) =>
        Object.entries(facts.get('environment', name) ?? {}).map(([image, running]) => ({ name, image, running })),
      );
      const tagKeys = rows.flatMap(({ running }) => running.tags.map((tag) => tagKey(running.repository, tag)));
      const recorded = await ledger.read(tagKeys.map((key) => ({ kind: 'tag', key })));
      const images = await Promise.all(
        rows.map(async ({ name, image, running }) => {
          const { repository, version, commit, digest, since, by } = running;
          const drift = await findDrift(session, running, recorded.facts);
          return { name, row: { image, repository, version: version ?? null, commit, digest, since, by, drift } };
        }),
      );
      return {
        product: config.product,
        environments: environments.map(({ name }) => ({
          environment: name,
          images: images.filter((image) => image.name === name).map(({ row }) => row),
        })),
      };
    });
  });
}

/** Compares what the ledger says with what the registry serves. */
async function findDrift(session: Session, running: RunningImage, facts: Facts): Promise<Drift> {
  const client = session.client(parseRepository(running.repository));
  const resolve = (reference: Tag | Digest) => session.limit(() => client.resolve(reference));
  try {
    const findings = await Promise.all(
      running.tags.map(async (tag) => {
        const expected = facts.get('tag', tagKey(running.repository, tag))?.digest ?? running.digest;
        const found = await resolve(tag);
        if (found === undefined) {
          return `the tag ${tag} is gone`;
        }
        return found === expected
          ? undefined
          : `${tag} points at ${shortDigest(found)}, not at ${shortDigest(expected)}`;
      }),
    );
    const content = (await resolve(running.digest)) === undefined ? [`${shortDigest(running.digest)} is gone`] : [];
    const drifted = [...content, ...findings.filter((finding) => finding !== undefined)];
    return { state: drifted.length === 0 ? 'none' : 'drifted', detail: drifted.join('; ') };
  } catch (error) {
    if (error instanceof HodError) {
      return { state: 'unknown', detail: error.message };
    }
    throw error;
  }
}
