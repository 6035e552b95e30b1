import LinkHeader from 'http-link-header';
import * as z from 'zod';
import { HodError } from '../core/errors';
import { parseJson } from '../core/json';
import { isTag, type Tag } from '../core/tags/tag';
import { addressIn, lookIntoLog, type FetchedResponse } from './http/exchange';
import type { RepositoryRequests } from './requests';

/** Some registries leave out the tags of a repository that has none; all name the repository. */
const tagListSchema = z.union([
  z.object({ tags: z.array(z.string()).nullable() }),
  z.object({ name: z.string(), tags: z.undefined() }),
]);

/** Pages hold a thousand tags where a registry gives as many as it is asked for. */
const pageLimit = 2_000;

const listing = {
  method: 'GET',
  access: 'read',
  expect: [200, 404],
  purpose: 'could not list the tags',
  part: '',
} as const;

/** How registries say that they remove no tags, or not for us. */
const refusals = [400, 403, 405, 501];

/** The tags of one repository (OCI distribution specification). */
export class Tags {
  constructor(private readonly requests: Pick<RepositoryRequests, 'label' | 'ask' | 'fetch'>) {}

  /**
   * Every tag, page after page ("Listing Tags"). A repository that does not exist has none.
   * Throws where the list has no end, or is none.
   */
  async *list(): AsyncGenerator<Tag> {
    const seen = new Set<string>();
    let path: string | undefined = 'tags/list?n=1000';
    while (path !== undefined) {
      this.refuseEndless(seen, path);
      const response = await this.requests.fetch({ ...listing, path });
      if (response.statusCode === 404) {
        return;
      }
      const page = tagListSchema.safeParse(parseJson(response.body) ?? null).data;
      if (page === undefined) {
        throw this.listProblem('answer-unexpected', 'what it answers is no list of tags');
      }
      yield* (page.tags ?? []).filter(isTag);
      path = this.nextPage(response);
    }
  }

  /** Removes a tag ("Deleting tags"). Answers false where the registry removes none, or not for us. */
  async remove(tag: Tag): Promise<boolean> {
    const response = await this.requests.ask({
      method: 'DELETE',
      path: `manifests/${tag}`,
      access: 'delete',
      expect: [200, 202, 204, 404, ...refusals],
      purpose: 'could not remove a tag',
      part: `:${tag}`,
    });
    return !refusals.includes(response.statusCode);
  }

  private refuseEndless(seen: Set<string>, path: string): void {
    if (seen.has(path) || seen.size === pageLimit) {
      const why = seen.has(path) ? 'its pages lead in a circle' : `it has more than ${pageLimit} pages`;
      throw this.listProblem('listing-endless', why);
    }
    seen.add(path);
  }

  /** The target of the link to the next page, against the address of this one (RFC 8288 §3). */
  private nextPage(response: FetchedResponse): string | undefined {
    const header = [response.headers['link'] ?? []].flat().join(', ');
    let target: string | undefined;
    try {
      target = header === '' ? undefined : LinkHeader.parse(header).rel('next')[0]?.uri;
    } catch {
      throw this.listProblem('answer-unexpected', 'its link to the next page cannot be read');
    }
    const about = { purpose: listing.purpose, object: this.requests.label };
    return target === undefined ? undefined : addressIn(target, response, about).href;
  }

  private listProblem(code: 'answer-unexpected' | 'listing-endless', why: string): HodError {
    return new HodError(code, {
      what: listing.purpose,
      object: this.requests.label,
      why,
      next: lookIntoLog,
    });
  }
}
