import LinkHeader from 'http-link-header';
import { HodError, type ErrorCode } from '../core/errors';
import { addressIn, lookIntoLog, type About, type FetchedResponse } from '../http/exchange';

/**
 * A registry that repeats its pages would keep Hod busy without end.
 * @limit pages of a list | pages | `listing-endless`
 */
const pageLimit = 2_000;

/**
 * The pages of a list, each asked for when the one before was read (OCI distribution specification, "Listing Tags").
 * Throws where the list has no end.
 */
export async function* pagesOf(
  first: string,
  ask: (path: string) => Promise<FetchedResponse>,
  about: About,
): AsyncGenerator<FetchedResponse> {
  const seen = new Set<string>();
  for (let path: string | undefined = first; path !== undefined;) {
    if (seen.has(path) || seen.size === pageLimit) {
      const why = seen.has(path) ? 'its pages lead in a circle' : `it has more than ${pageLimit} pages`;
      throw listProblem('listing-endless', about, why);
    }
    seen.add(path);
    const response = await ask(path);
    yield response;
    path = nextPage(response, about);
  }
}

/** The error for a list that cannot be read. */
export function listProblem(
  code: Extract<ErrorCode, 'answer-unexpected' | 'listing-endless'>,
  about: About,
  why: string,
): HodError {
  return new HodError(code, { what: about.purpose, object: about.object, why, next: lookIntoLog });
}

/** The target of the link to the next page, against the address of this one (RFC 8288 §3). */
function nextPage(response: FetchedResponse, about: About): string | undefined {
  const header = [response.headers['link'] ?? []].flat().join(', ');
  let target: string | undefined;
  try {
    target = header === '' ? undefined : LinkHeader.parse(header).rel('next')[0]?.uri;
  } catch {
    throw listProblem('answer-unexpected', about, 'its link to the next page cannot be read');
  }
  return target === undefined ? undefined : addressIn(target, response, about).href;
}
