import { HodError } from '../core/errors';
import { parseRepository } from '../core/oci/reference';
import { asOneLine, type Text } from '../core/text';
import type { AccessResult, RightResult } from '../results/access';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import { ledgerLabel, withLedger } from '../session/open-ledger';
import { environmentNamed, type Config, type EnvironmentConfig } from '../workspace/config';

/** What `access check` is told. */
export interface CheckAccessOptions extends SessionOptions {
  /** The environments that this job writes; all where none is named. */
  environments: readonly string[];
}

type RepositoryAccess = AccessResult['environments'][number]['repositories'][number];
type Rights = Omit<RepositoryAccess, 'mount'>;

/**
 * Finds out, before anything is uploaded, what this identity may do in each repository. Leaves nothing
 * behind: what it asks a registry to write cannot be written.
 */
export async function checkAccess(options: CheckAccessOptions): Promise<AccessResult> {
  return withProduct(options, async (config, session) => {
    const written = options.environments.map((name) => environmentNamed(config, name));
    const isWritten = ({ name }: EnvironmentConfig): boolean =>
      written.length === 0 || written.some((each) => each.name === name);
    const isRead = ({ name }: EnvironmentConfig): boolean =>
      config.environments.some((each) => each.after === name && isWritten(each));
    const checkingLedger = checkLedger(config, session);
    const checked = await Promise.all(
      config.environments.map(async (environment) => ({
        environment,
        needs: isWritten(environment) ? ('write' as const) : isRead(environment) ? ('read' as const) : null,
        repositories: await Promise.all(
          config.components.map(({ name }) => checkRepository(session, environment, name)),
        ),
      })),
    );
    const ledger = await checkingLedger;
    const environments = checked.map(({ environment, needs, repositories }) => {
      const before = checked.find((each) => each.environment.name === environment.after)?.repositories;
      return {
        environment: environment.name,
        needs,
        repositories: repositories.map((found, at) => ({ ...found, mount: mountRight(found, before?.[at]) })),
      };
    });
    const warnings = environments.flatMap(({ environment, needs, repositories }) => {
      const [first, ...others] = needs === 'write' ? [] : repositories.filter(({ write }) => write.allowed === 'yes');
      return first === undefined ? [] : [warningOf(environment, first.repository, others.length)];
    });
    return { product: config.product, environments, ledger, warnings };
  });
}

/** Whether the ledger can be read, and added to. Nothing is made or changed. */
async function checkLedger(config: Config, session: Session): Promise<AccessResult['ledger']> {
  let append: RightResult | undefined;
  const read = await checkRight(() =>
    withLedger(config, session, 'read', async (ledger) => {
      append = await checkRight(() => ledger.mayAppend());
    }),
  );
  return { ledger: ledgerLabel(config), read, append: append ?? read };
}

function warningOf(environment: string, repository: string, others: number): string {
  const more = others === 0 ? '' : ` and ${others} more`;
  return `this identity can write ${environment} (${repository}${more}), and does not need to`;
}

async function checkRepository(session: Session, environment: EnvironmentConfig, image: string): Promise<Rights> {
  const client = session.client(environment.repositoryOf(image));
  const read = await checkRight(() => client.probeRead());
  const write = reaches(read) ? await checkRight(() => client.probeWrite()) : read;
  return { image, repository: client.label, read, write };
}

/** Mounting needs the right to read where the content is, and to write where it goes, in one registry. */
function mountRight(target: Rights, source: Rights | undefined): RightResult | null {
  if (source === undefined || source.repository === target.repository) {
    return null;
  }
  const registryOf = ({ repository }: Rights): string => parseRepository(repository).registry;
  if (registryOf(source) !== registryOf(target)) {
    return null;
  }
  return source.read.allowed === 'yes' ? target.write : source.read;
}

async function checkRight(probe: () => Promise<void>): Promise<RightResult> {
  try {
    await probe();
    return { allowed: 'yes', code: null, why: null, next: null };
  } catch (error) {
    if (!(error instanceof HodError)) {
      throw error;
    }
    const { why, next } = error.problem;
    const refused = error.fault === 'denied' || error.code === 'no-repository';
    return { allowed: refused ? 'no' : 'unknown', code: error.code, why: oneLine(why), next: oneLine(next) };
  }
}

function oneLine(text: Text | undefined): string | null {
  return text === undefined ? null : asOneLine(text);
}

/** Whether a login got through to the registry: if not, asking it for more says the same again. */
function reaches({ allowed, code }: RightResult): boolean {
  return allowed === 'yes' || code === 'no-right' || code === 'no-repository';
}

/** The exit code for what was found: 0 where everything that is needed is allowed. */
export function accessExitCode({ environments, ledger }: AccessResult): number {
  // Every command reads it; who writes an environment adds to it.
  const adds = environments.some(({ needs }) => needs === 'write');
  const rights = [ledger.read, ...(adds ? [ledger.append] : [])].filter(({ allowed }) => allowed !== 'yes');
  const missing = environments.flatMap(({ needs, repositories }) =>
    needs === null
      ? []
      : repositories.map((repository) => repository[needs]).filter(({ allowed }) => allowed !== 'yes'),
  );
  missing.push(...rights);
  if (missing.some(({ allowed, code }) => allowed === 'no' && code !== 'no-repository')) {
    return 5;
  }
  if (missing.some(({ allowed }) => allowed === 'unknown')) {
    return 6;
  }
  return missing.length > 0 ? 4 : 0;
}
