import { checkLedger, checkRepository, checkSigning } from '../inspect/access';
import { parseRepository } from '../core/oci/reference';
import { checkSources } from '../inspect/source-access';
import { toAccessResult, type AccessResult } from '../results/access';
import { issuedTo } from '../session/actor';
import { withProduct, withSession, type SessionOptions } from '../session/session';
import { environmentNamed, type Config, type EnvironmentConfig } from '../workspace/config';

/** What `access check` is told. */
export interface CheckAccessOptions extends SessionOptions {
  /** The environments that this job writes; all where none is named. */
  environments: readonly string[];
  /** The job only reads there. */
  read?: boolean | undefined;
  /** Create repositories that do not exist, where hod.yaml names a command for that. */
  create?: boolean | undefined;
}

/**
 * Finds out, before anything is uploaded, what this identity may do in each repository. Leaves nothing
 * behind but the repositories that it is told to create: what it asks a registry to write cannot be written.
 */
export async function checkAccess(options: CheckAccessOptions): Promise<AccessResult> {
  return withProduct(options, async (config, session) =>
    withSession(config, { ...options, anonymous: true }, async (anonymous) => {
      const needs = needsOf(config, options);
      const checkingLedger = checkLedger(config, session);
      const checkingIdentity = issuedTo(config, session);
      const checkingSigning = options.read === true ? undefined : checkSigning(config, session);
      const checkingSources = needs(config.environments[0]) === 'write' ? checkSources({ config, session }) : [];
      const checked = await Promise.all(
        config.environments.map(async (environment) => ({
          environment,
          needs: needs(environment),
          repositories: await Promise.all(
            config.components.map(({ name }) =>
              checkRepository(name, environment, {
                session,
                anonymous,
                create: options.create === true && needs(environment) === 'write',
              }),
            ),
          ),
        })),
      );
      const sources = await checkingSources;
      const registries = new Set(
        [...checked.flatMap(({ repositories }) => repositories), ...sources].flatMap(({ repository }) =>
          repository === undefined ? [] : [parseRepository(repository).registry],
        ),
      );
      const logins = await Promise.all(
        [...registries].map(async (registry) => {
          const known = session.loginsOf(registry);
          return { registry, used: known.used, others: await known.others() };
        }),
      );
      return toAccessResult({
        ...{ product: config.product, checked, sources, logins },
        ...{ ledger: await checkingLedger, identity: await checkingIdentity, signing: await checkingSigning },
      });
    }),
  );
}

/** What the job needs in each environment: undefined for nothing. */
function needsOf(
  config: Config,
  { environments: names, read = false }: CheckAccessOptions,
): (environment: EnvironmentConfig) => 'read' | 'write' | undefined {
  names.forEach((name) => environmentNamed(config, name));
  const isNamed = ({ name }: EnvironmentConfig): boolean => names.length === 0 || names.includes(name);
  const isSource = ({ name }: EnvironmentConfig): boolean =>
    config.environments.some((each) => each.after === name && isNamed(each));
  return (environment) => {
    if (isNamed(environment)) {
      return read ? 'read' : 'write';
    }
    return !read && isSource(environment) ? 'read' : undefined;
  };
}
