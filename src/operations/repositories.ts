import picomatch from 'picomatch';
import { HodError } from '../core/errors';
import { parseRegistry } from '../core/oci/reference';
import { asOneLine } from '../core/text';
import { repositoriesOf } from '../registry/catalogue';
import type { RepositoriesResult } from '../results/tags';
import { withProductIfAny, type SessionOptions } from '../session/session';
import type { Config } from '../workspace/config';

/** What `repositories` is told. */
export interface RepositoriesOptions extends SessionOptions {
  registry: string;
  /** Only names that this pattern matches. */
  find?: string | undefined;
  /** How many names the document may have. */
  most: number;
}

/** The repositories of a registry; where it does not list them, those that hod.yaml knows. */
export async function repositories(options: RepositoriesOptions): Promise<RepositoriesResult> {
  const registry = parseRegistry(options.registry);
  const matches = options.find === undefined ? () => true : picomatch(options.find);
  return withProductIfAny(options, async (config, session) => {
    const found: string[] = [];
    try {
      for await (const name of repositoriesOf(await session.connection(registry))) {
        if (matches(name)) {
          if (found.length === options.most) {
            return { registry, source: 'registry', repositories: found, whole: false };
          }
          found.push(name);
        }
      }
      return { registry, source: 'registry', repositories: found, whole: true };
    } catch (error) {
      const known = knownTo(config, registry).filter((name) => matches(name));
      if (!(error instanceof HodError) || error.code !== 'no-catalogue' || known.length === 0) {
        throw error;
      }
      session.observer.note(`${registry} does not list its repositories: ${asOneLine(error.problem.why ?? '')}`);
      return { registry, source: 'hod.yaml', repositories: known, whole: true };
    }
  });
}

function knownTo(config: Config | undefined, registry: string): string[] {
  const all = (config?.environments ?? []).flatMap((environment) =>
    (config?.components ?? []).map(({ name }) => environment.repositoryOf(name)),
  );
  return [...new Set(all.filter((each) => each.registry === registry).map(({ name }) => name))].sort();
}
