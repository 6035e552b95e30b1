import { HodError, type ErrorCode } from '../core/errors';
import { parseRepository, type RepositoryName } from '../core/oci/reference';
import { asOneLine } from '../core/text';
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
}

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

/** Checks what this identity may do in the repository of a component. What it asks the registry to write cannot be written. */
export async function checkRepository(
  component: string,
  environment: EnvironmentConfig,
  session: Session,
): Promise<RepositoryRights> {
  const client = session.client(environment.repositoryOf(component));
  const read = await checkRight(() => client.probeRead());
  const write = reaches(read) ? await checkRight(() => client.probeWrite()) : read;
  return { component, repository: client.label, read, write };
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
