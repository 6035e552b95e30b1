import { HodError } from '../core/errors';
import { proveEnvironment } from '../inspect/prove';
import { toProveResult, type ProveResult } from '../results/prove';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { settleAll } from '../system/promises';
import { environmentNamed, type Config, type EnvironmentConfig } from '../workspace/config';
import { readTrust } from '../workspace/trust';

/** What `prove` is told. */
export interface ProveOptions extends SessionOptions {
  environments: readonly string[];
  /** Every environment. */
  all?: true | undefined;
  /** Read and hash every byte. */
  deep?: true | undefined;
}

/** Proves that environments serve what was published and tested, or says what is not so. Changes nothing. */
export async function prove(options: ProveOptions): Promise<ProveResult> {
  return withProduct(options, async (config, session) => {
    const environments = chosen(options, config);
    const { deep = false } = options;
    return withLedger(config, session, 'read', async (ledger) => {
      await refuseEmpty(config, ledger);
      const context = { config, session, ledger, deep, trust: await readTrust(config) };
      const proofs = await settleAll(environments.map((environment) => proveEnvironment(environment, context)));
      return toProveResult(config.product, proofs, { deep });
    });
  });
}

function chosen({ environments, all }: ProveOptions, config: Config): readonly EnvironmentConfig[] {
  if (environments.length > 0 === (all === true)) {
    throw new HodError('options-conflict', {
      what: environments.length > 0 ? 'environments are named, and --all too' : 'no environment is named',
      object: ['hod prove', ...environments, ...(all === true ? ['--all'] : [])].join(' '),
      why: 'the command needs to know what to prove',
      next: `name an environment, such as ${config.environments.at(-1)?.name ?? ''}, or say --all`,
    });
  }
  return all === true ? config.environments : environments.map((name) => environmentNamed(config, name));
}
