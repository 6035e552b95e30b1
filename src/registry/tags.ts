import * as z from 'zod';
import { parseJson } from '../core/json';
import { isTag, type Tag } from '../core/oci/tag';
import { listProblem, pagesOf } from './pages';
import { removeReference, type RepositoryRequests } from './requests';

/** Some registries leave out the tags of a repository that has none; all name the repository. */
const tagListSchema = z.union([
  z.object({ tags: z.array(z.string()).nullable() }),
  z.object({ name: z.string(), tags: z.undefined() }),
]);

const listing = {
  method: 'GET',
  access: 'read',
  expect: [200, 404],
  purpose: 'could not list the tags',
  part: '',
} as const;

/**
 * A registry that ignores the wanted number may send all of its tags; they are held in memory.
 * @limit tags on one page of a list | tags | exit 6
 */
const pageLimit = 250_000;

/** The tags of one repository (OCI distribution specification). */
export class Tags {
  constructor(private readonly requests: Pick<RepositoryRequests, 'label' | 'ask' | 'fetch'>) {}

  /**
   * Every tag, page after page ("Listing Tags"). A repository that does not exist has none; `absent` is told of that.
   * Throws where the list has no end, or is none.
   */
  async *list(absent: () => void = () => undefined): AsyncGenerator<Tag> {
    const about = { purpose: listing.purpose, object: this.requests.label };
    const ask = (path: string) => this.requests.fetch({ ...listing, path });
    for await (const response of pagesOf('tags/list?n=1000', ask, about)) {
      if (response.statusCode === 404) {
        absent();
        return;
      }
      const page = tagListSchema.safeParse(parseJson(response.body) ?? null).data;
      if (page === undefined) {
        throw listProblem('answer-unexpected', about, 'what it answers is no list of tags');
      }
      const names = page.tags ?? [];
      if (names.length > pageLimit) {
        throw listProblem(
          'answer-unexpected',
          about,
          `a page of it has ${names.length} tags, and at most ${pageLimit} are read`,
        );
      }
      for (const name of names) {
        if (isTag(name)) {
          yield name;
        }
      }
    }
  }

  /** Removes a tag ("Deleting tags"). Answers false where the registry removes none, or not for us. */
  remove(tag: Tag): Promise<boolean> {
    return removeReference(this.requests, { part: `:${tag}`, purpose: 'could not remove a tag' });
  }
}
