import { HodError, type ErrorCode } from '../core/errors';
import { parseRepository, type RepositoryName } from '../core/oci/reference';
import { asOneLine } from '../core/text';
import { timestampOf } from '../core/time';
import { trustsNobody } from '../core/trust/trust-rules';
import { verifyMessage } from '../core/trust/verify';
import { signerOf } from '../session/actor';
import { ledgerLabel, withLedger } from '../session/open-ledger';
import type { Session } from '../session/session';
import type { Config, EnvironmentConfig } from '../workspace/config';

/** Whether something may be done; `unknown`: nobody could be asked. `code`: the error that stands in the way, with why. */
export interface Right {
  readonly allowed: 'yes' | 'no' | 'unknown';
  readonly code?: ErrorCode;
  readonly why?: string | undefined;
  readonly next?: string | undefined;
}

/** What may be done in the repository of a component. */
export interface RepositoryRights {
  readonly component: string;
  readonly repository: RepositoryName;
  readonly read: Right;
  readonly write: Right;
  /** Whether it can be read without a login; undefined where it cannot be read. */
  readonly anyoneReads: boolean | undefined;
  /** A repository that did not exist: who creates it, or that it was created just now. */
  readonly creation: Creation | undefined;
}

/** How a repository that does not exist comes to be. */
export type Creation = 'first-upload' | 'created';

/** What may be done with the ledger. */
export interface LedgerRights {
  readonly ledger: string;
  readonly read: Right;
  readonly append: Right;
}

/** Checks whether the ledger can be read, and added to. Nothing is made or changed. */
export async function checkLedger(config: Config, session: Session): Promise<LedgerRights> {
  let append: Right | undefined;
  const read = await checkRight(() =>
    withLedger(config, session, 'read', async (ledger) => {
      append = await checkRight(() => ledger.mayAppend());
    }),
  );
  return { ledger: ledgerLabel(config), read, append: append ?? read };
}

/** Whether this run can sign what it records, and whose signature that is. */
export interface SigningRights {
  /** The name under `trust:` and the key; undefined where nothing can be signed. */
  readonly as: string | undefined;
  readonly sign: Right;
}

/** Checks whether this run can sign, by signing a text that means nothing; undefined where hod.yaml does not sign. */
export async function checkSigning(config: Config, session: Session): Promise<SigningRights | undefined> {
  if (config.sign === undefined) {
    return undefined;
  }
  let as: string | undefined;
  const sign = await checkRight(async () => {
    const signer = await signerOf(config, session);
    const message = Buffer.from('hod access check');
    const signature = Buffer.from((await signer?.sign(message)) ?? '', 'base64');
    const at = timestampOf(new Date());
    const { by, key } = { key: '', ...verifyMessage(message, [{ signature }], signer?.trust ?? trustsNobody, { at }) };
    as = by === undefined ? undefined : `${by} (${key})`;
  });
  return { as, sign: sign.allowed === 'unknown' ? { ...sign, allowed: 'no' } : sign };
}

/** Who asks for rights, and what may be made. */
export interface AccessChecker {
  readonly session: Session;
  /** Shows no login. */
  readonly anonymous: Session;
  /** Create repositories that do not exist, where hod.yaml names a command for that. */
  readonly create: boolean;
}

/** Checks what this identity may do in the repository of a component. What it asks the registry to write cannot be written. */
export async function checkRepository(
  component: string,
  environment: EnvironmentConfig,
  { session, anonymous, create }: AccessChecker,
): Promise<RepositoryRights> {
  const repository = environment.repositoryOf(component);
  const client = session.client(repository);
  const rights = async () => {
    const read = await checkRight(() => client.probeRead());
    return { read, write: reaches(read) ? await checkRight(() => client.probeWrite()) : read };
  };
  let found = await rights();
  let creation: Creation | undefined;
  if (found.write.code === 'no-repository') {
    const connection = await session.connection(repository.registry);
    if (create && connection.createsRepositories) {
      const made = await checkRight(async () => {
        await connection.createRepository(repository.name);
      });
      creation = made.allowed === 'yes' ? 'created' : undefined;
      found = made.allowed === 'yes' ? await rights() : { ...found, write: made };
    } else if (connection.createsRepositories) {
      creation = 'first-upload';
      found = { ...found, write: { allowed: 'yes' } };
    }
  }
  const anyoneReads =
    found.read.allowed !== 'yes'
      ? undefined
      : session.loginsOf(repository.registry).used === undefined ||
        (await checkRight(() => anonymous.client(repository).probeRead())).allowed === 'yes';
  return { component, repository: client.label, ...found, anyoneReads, creation };
}

/**
 * Whether blobs can be mounted: that takes the right to read where they are, and to write where they go. Undefined where the
 * two repositories do not share a registry.
 */
export function mountRight(target: RepositoryRights, source: RepositoryRights | undefined): Right | undefined {
  if (source === undefined || source.repository === target.repository) {
    return undefined;
  }
  const registryOf = ({ repository }: RepositoryRights): string => parseRepository(repository).registry;
  if (registryOf(source) !== registryOf(target)) {
    return undefined;
  }
  return source.read.allowed === 'yes' ? target.write : source.read;
}

/** Tries something that changes nothing, and answers whether it is allowed. */
export async function checkRight(probe: () => Promise<void>): Promise<Right> {
  try {
    await probe();
    return { allowed: 'yes' };
  } catch (error) {
    if (!(error instanceof HodError)) {
      throw error;
    }
    const { why, next } = error.problem;
    const refused = error.fault === 'denied' || error.code === 'no-repository';
    return {
      allowed: refused ? 'no' : 'unknown',
      code: error.code,
      why: why && asOneLine(why),
      next: next && asOneLine(next),
    };
  }
}

/** Whether a login got through to the registry: if not, asking it for more says the same again. */
function reaches({ allowed, code }: Right): boolean {
  return allowed === 'yes' || code === 'no-right' || code === 'no-repository';
}
