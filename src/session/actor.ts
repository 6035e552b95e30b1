import type { Actor } from '../core/ledger/entry';
import type { RecordSigner } from '../core/trust/signer';
import type { Config } from '../workspace/config';
import { jobOf } from '../workspace/config-schema';
import { userName } from '../workspace/user-files';
import type { IssuedIdentity } from './issuer-identity';
import type { Session } from './session';

/**
 * Who does what is recorded: the identity of this job where an issuer's keys or a token service check it, else who the
 * command line names, else who the CI says, else the user. Only the first cannot be made up by the job.
 *
 * Throws `denied` where the job has an identity, and it is not accepted.
 */
export async function actorOf(named: string | undefined, config: Config, session: Session): Promise<Actor> {
  const signer = await signerOf(config, session);
  const issued = await issuedTo(config, session);
  if (issued !== undefined) {
    noteOther(named, issued.name, `this job proved that it is ${issued.name}`, session);
    return { ...issued, proven: true, signer };
  }
  const proven = registryOfJobs(config);
  if (proven !== undefined) {
    await session.proveIdentity(proven);
    if (session.identity !== undefined) {
      noteOther(named, session.identity, `this job proved that it is ${session.identity}`, session);
      return { name: session.identity, proven: true, signer };
    }
  }
  if (named !== undefined) {
    return { name: named, proven: false, signer };
  }
  const { readCiActor } = await import('../workspace/ci');
  return { name: readCiActor(config.folder) ?? userName(), proven: false, signer };
}

/** Makes sure, before long work relies on it, that this run can sign; a dry run signs nothing. */
export async function prepared(actor: Promise<Actor>, { dryRun }: { readonly dryRun: boolean }): Promise<Actor> {
  const found = await actor;
  if (!dryRun) {
    await found.signer?.prepare();
  }
  return found;
}

/** Returns the person who signed. The name on the command line does not count. */
export async function signedBy(
  name: string,
  named: string | undefined,
  config: Parameters<typeof signerOf>[0],
  session: Pick<Session, 'secrets' | 'observer'>,
): Promise<Actor> {
  noteOther(named, name, `the signature is of ${name}`, session);
  return { name, proven: true, signer: await signerOf(config, session) };
}

/** Notes that a name of the command line is not recorded, because somebody else is proven. */
function noteOther(
  named: string | undefined,
  name: string,
  why: string,
  { observer }: Pick<Session, 'observer'>,
): void {
  if (named !== undefined && named !== name) {
    observer.note(`--actor ${named} is not recorded: ${why}`);
  }
}

/** Returns the identity of this job by an issuer that hod.yaml trusts; it is asked for once in a run. */
export async function issuedTo(config: Config, session: Session): Promise<IssuedIdentity | undefined> {
  if ((config.trust?.issuers ?? []).length === 0) {
    return undefined;
  }
  const { identityByIssuer } = await import('./issuer-identity');
  const asked = issuedIn.get(session) ?? identityByIssuer(config, session);
  issuedIn.set(session, asked);
  return asked;
}

const issuedIn = new WeakMap<Session, Promise<IssuedIdentity | undefined>>();

/** Returns what signs what this run records; undefined where hod.yaml names no key. Throws `trust-unusable`. */
export async function signerOf(
  config: Pick<Config, 'sign' | 'trust' | 'folder'>,
  { secrets }: Pick<Session, 'secrets'>,
): Promise<RecordSigner | undefined> {
  const { sign, folder } = config;
  if (sign === undefined) {
    return undefined;
  }
  const [{ signerWith }, { readTrustedSigners }] = await Promise.all([
    import('../workspace/signing-key'),
    import('../workspace/trust'),
  ]);
  return signerWith(sign.key, await readTrustedSigners(config), { folder, secrets });
}

/** The first registry of hod.yaml that takes the identity of a job. */
function registryOfJobs({ registries }: Config): string | undefined {
  return [...registries].find(([, registry]) => jobOf(registry) !== undefined)?.[0];
}
