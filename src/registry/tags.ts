import LinkHeader from 'http-link-header';
import * as z from 'zod';
import { HodError } from '../core/errors';
import { parseJson } from '../core/json';
import { isTag, type Tag } from '../core/tags/tag';
import type { RepositoryRequests } from './requests';

const tagListSchema = z.object({ tags: z.array(z.string()).nullish() });

/** How registries say that they remove no tags, or not for us. */
const refusals = [400, 403, 405, 501];

/** The tags of one repository (OCI distribution specification). */
export class Tags {
  constructor(private readonly requests: RepositoryRequests) {}

  /** Every tag, page after page ("Listing Tags"). A repository that does not exist has none. */
  async *list(): AsyncGenerator<Tag> {
    let path: string | undefined = 'tags/list?n=1000';
    while (path !== undefined) {
      const here: string = path;
      const response = await this.requests.fetch({
        method: 'GET',
        path: here,
        access: 'read',
        expect: [200, 404],
        purpose: 'could not list the tags',
        part: '',
      });
      if (response.statusCode === 404) {
        return;
      }
      const page = tagListSchema.safeParse(parseJson(response.body) ?? null);
      yield* (page.data?.tags ?? []).filter(isTag);
      path = nextPage(response.headers['link'], here);
    }
  }

  /** Removes a tag ("Deleting tags"). Answers false where the registry removes none, or not for us. */
  async remove(tag: Tag): Promise<boolean> {
    try {
      const response = await this.requests.ask({
        method: 'DELETE',
        path: `manifests/${tag}`,
        access: 'delete',
        expect: [200, 202, 204, 404, ...refusals],
        purpose: 'could not remove a tag',
        part: `:${tag}`,
      });
      return !refusals.includes(response.statusCode);
    } catch (error) {
      if (error instanceof HodError && error.fault === 'denied') {
        return false;
      }
      throw error;
    }
  }
}

/** The target of the link to the next page (RFC 8288). */
function nextPage(header: string | string[] | undefined, here: string): string | undefined {
  if (header === undefined) {
    return undefined;
  }
  const [next] = LinkHeader.parse([header].flat().join(', ')).rel('next');
  return next === undefined || next.uri === here ? undefined : next.uri;
}
