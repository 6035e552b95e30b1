import type { Actor } from '../core/ledger/entry';
import type { Config } from '../workspace/config';
import { jobOf } from '../workspace/config-schema';
import { userName } from '../workspace/user-files';
import type { Session } from './session';

/**
 * Who does what is recorded: the identity of this job where a token service checks it, else who the
 * command line names, else who the CI says, else the user. Only the first cannot be made up by the job.
 *
 * Throws `denied` where the job has an identity, and it is not accepted.
 */
export async function actorOf(named: string | undefined, config: Config, session: Session): Promise<Actor> {
  const proven = registryOfJobs(config);
  if (proven !== undefined) {
    await session.proveIdentity(proven);
    if (session.identity !== undefined) {
      if (named !== undefined && named !== session.identity) {
        session.observer.note(`--actor ${named} is not recorded: this job proved that it is ${session.identity}`);
      }
      return { name: session.identity, proven: true };
    }
  }
  if (named !== undefined) {
    return { name: named, proven: false };
  }
  const { readCiActor } = await import('../workspace/ci');
  return { name: readCiActor(config.folder) ?? userName(), proven: false };
}

/** The first registry of hod.yaml that takes the identity of a job. */
function registryOfJobs({ registries }: Config): string | undefined {
  return [...registries].find(([, registry]) => jobOf(registry) !== undefined)?.[0];
}
