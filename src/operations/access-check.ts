import { checkLedger, checkRepository } from '../inspect/access';
import { checkSources } from '../inspect/source-access';
import { toAccessResult, type AccessResult } from '../results/access';
import { withProduct, type SessionOptions } from '../session/session';
import { environmentNamed, type EnvironmentConfig } from '../workspace/config';

/** What `access check` is told. */
export interface CheckAccessOptions extends SessionOptions {
  /** The environments that this job writes; all where none is named. */
  environments: readonly string[];
}

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
    const checkingSources = isWritten(config.environments[0]) ? checkSources({ config, session }) : [];
    const checked = await Promise.all(
      config.environments.map(async (environment) => ({
        environment,
        needs: isWritten(environment) ? ('write' as const) : isRead(environment) ? ('read' as const) : undefined,
        repositories: await Promise.all(
          config.components.map(({ name }) => checkRepository(name, environment, session)),
        ),
      })),
    );
    return toAccessResult(config.product, checked, await checkingSources, await checkingLedger);
  });
}
