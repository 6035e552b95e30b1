import * as z from 'zod';
import { HodError } from '../core/errors';
import { parseJson } from '../core/json';
import { asOneLine } from '../core/text';
import type { Connection } from './connection';
import { listProblem, pagesOf } from './pages';

const pageSchema = z.object({ repositories: z.array(z.string()).nullable() });
/**
 * The page is held in memory.
 * @limit one page of the repositories of a registry | bytes | `answer-too-large`
 */
const pageSize = 4 * 1024 * 1024;

/**
 * The names of the repositories of a registry, page after page. No standard has this list; many registries answer it, some
 * not to everybody. Throws `no-catalogue` where this one does not.
 */
export async function* repositoriesOf(connection: Connection): AsyncGenerator<string> {
  const about = { purpose: 'could not list the repositories', object: connection.registry };
  const ask = async (target: string) => {
    try {
      return await connection.fetch(
        { ...about, method: 'GET', target, scopes: [], expect: [200, 404, 405] },
        pageSize,
        () => undefined,
      );
    } catch (error) {
      if (error instanceof HodError && error.fault === 'denied') {
        throw noCatalogue(about.object, error);
      }
      throw error;
    }
  };
  for await (const response of pagesOf('/v2/_catalog?n=1000', ask, about)) {
    if (response.statusCode !== 200) {
      throw noCatalogue(about.object);
    }
    const page = pageSchema.safeParse(parseJson(response.body) ?? null).data;
    if (page === undefined) {
      throw listProblem('answer-unexpected', about, 'what it answers is no list of repositories');
    }
    yield* page.repositories ?? [];
  }
}

function noCatalogue(registry: string, cause?: HodError): HodError {
  return new HodError(
    'no-catalogue',
    {
      what: 'this registry does not list its repositories',
      object: registry,
      why: cause === undefined ? 'it has no such list' : `not for this login: ${asOneLine(cause.problem.why ?? '')}`,
      next: 'name a repository: `hod tags REGISTRY/NAME`; those that hod.yaml knows are listed with it',
    },
    { cause },
  );
}
