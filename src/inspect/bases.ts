import { isNear } from '../core/access/destinations';
import type { Drift } from '../core/insight/drift';
import type { ComponentBase } from '../core/insight/moved-bases';
import type { ServedComponent } from '../core/ledger/facts';
import { HodError, messageOf } from '../core/errors';
import { annotationKeys } from '../core/oci/annotations';
import { readContentBelow, runnableImages } from '../core/oci/content';
import { isDigest } from '../core/oci/digest';
import { formatPlatform } from '../core/oci/platform';
import { parseReference, parseRepository, type Reference } from '../core/oci/reference';
import type { Session } from '../session/session';
import { namesRegistry, type Config } from '../workspace/config';

/** The images that an environment serves, and whether its registry could be asked about each. */
interface AskedEnvironment {
  readonly environment: string;
  readonly components: readonly { readonly served: ServedComponent; readonly drift: Pick<Drift, 'state'> }[];
}

type BaseNow = Pick<ComponentBase, 'now' | 'state' | 'detail'>;

/** What the images that environments serve were built on, and whether its name leads elsewhere now. */
export async function basesOf(
  environments: readonly AskedEnvironment[],
  config: Config,
  session: Session,
): Promise<ComponentBase[]> {
  const asked = new Map<string, Promise<BaseNow>>();
  const all = environments.flatMap(({ environment, components }) =>
    components
      // What the registry itself could not be asked for is not asked for again.
      .filter(({ drift }) => drift.state !== 'unknown')
      .map(async ({ served: { component, repository, version, commit, digest } }): Promise<ComponentBase[]> => {
        const client = session.client(parseRepository(repository));
        const manifest = await client.manifests.get(digest);
        const found = manifest === undefined ? [] : await runnableImages(await readContentBelow(client, manifest));
        return Promise.all(
          found.flatMap(({ manifest: own, platform }) => {
            const [name, built] = [annotationKeys.baseName, annotationKeys.baseDigest].map(
              (key) => own.annotations.get(key) ?? manifest?.annotations.get(key),
            );
            if (name === undefined || built === undefined) {
              return [];
            }
            const key = `${name} ${built}`;
            const answer = asked.get(key) ?? askBase(name, built, config, session);
            asked.set(key, answer);
            return [
              answer.then((now) => {
                return {
                  environment,
                  component,
                  version,
                  commit,
                  platform: formatPlatform(platform),
                  name,
                  digest: built,
                  ...now,
                };
              }),
            ];
          }),
        );
      }),
  );
  return (await Promise.all(all)).flat();
}

async function askBase(name: string, built: string, config: Config, session: Session): Promise<BaseNow> {
  const unknown = (detail: string) => ({ now: undefined, state: 'unknown' as const, detail });
  let base: Reference;
  try {
    base = parseReference(name);
  } catch (error) {
    return unknown(messageOf(error));
  }
  const { repository, tag } = base;
  // An image must not send us to what only this machine, or this network, can reach.
  if (isNear(repository.registry) && !namesRegistry(config, repository.registry)) {
    return unknown(
      `${repository.registry} is near this machine, and not named under \`registries:\` in hod.yaml; it was not asked`,
    );
  }
  if (tag === undefined || !isDigest(built)) {
    return unknown(tag === undefined ? 'the name has no tag that could lead elsewhere' : 'its digest is none');
  }
  try {
    const now = await session.client(repository).manifests.get(tag);
    if (now === undefined) {
      return { now: undefined, state: 'moved', detail: 'it is not there any more' };
    }
    const stands =
      now.digest === built || (now.kind === 'index' && now.manifests.some(({ digest }) => digest === built));
    return {
      now: now.digest,
      state: stands ? 'current' : 'moved',
      detail: stands ? 'it is what it was' : 'it leads elsewhere now',
    };
  } catch (error) {
    if (error instanceof HodError) {
      return unknown(error.message);
    }
    throw error;
  }
}
