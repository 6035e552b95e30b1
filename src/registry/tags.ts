import * as z from 'zod';
import { parseJson } from '../core/json';
import { readDigestTag } from '../core/oci/referrers';
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

/** Some names of a list. */
interface TagPage {
  readonly names: readonly string[];
  /** Whether the names are in order, and the next page begins after the last of them. */
  readonly goesOnAfterName: boolean;
}

const firstPage = 'tags/list?n=1000';
/** Names that sort before all tags that are made of a digest, and behind them. */
const [beforeDigestTags, behindDigestTags] = ['sha256-', 'sha512.'];

function isDigestTag(tag: Tag): boolean {
  return readDigestTag(tag) !== undefined;
}

function isInOrder(names: readonly string[]): boolean {
  return names.every((name, at) => at === 0 || (names[at - 1] ?? '') < name);
}

/** The tags of one repository (OCI distribution specification). */
export class Tags {
  constructor(private readonly requests: Pick<RepositoryRequests, 'label' | 'ask' | 'fetch'>) {}

  /**
   * Every tag, page after page ("Listing Tags"). A repository that does not exist has none; `absent` is told of that.
   * Throws where the list has no end, or is none.
   */
  async *list(absent: () => void = () => undefined): AsyncGenerator<Tag> {
    for await (const { names } of this.pages(firstPage, absent)) {
      yield* names.filter(isTag);
    }
  }

  /**
   * The tags that are made of a digest. Where a registry shows with the first of many pages that it lists in order and goes on
   * after a name, the names before and behind such tags are not asked for.
   */
  async *madeOfDigests(): AsyncGenerator<Tag> {
    for await (const { names, goesOnAfterName } of this.pages(firstPage)) {
      yield* names.filter(isTag).filter(isDigestTag);
      if (goesOnAfterName) {
        yield* this.digestTagsAfter(names.at(-1) ?? '');
        return;
      }
    }
  }

  private async *digestTagsAfter(name: string): AsyncGenerator<Tag> {
    const start = name > beforeDigestTags ? name : beforeDigestTags;
    for await (const { names } of this.pages(`${firstPage}&last=${encodeURIComponent(start)}`)) {
      yield* names.filter(isTag).filter(isDigestTag);
      if ((names.at(-1) ?? '') > behindDigestTags) {
        return;
      }
    }
  }

  private async *pages(first: string, absent: () => void = () => undefined): AsyncGenerator<TagPage> {
    const about = { purpose: listing.purpose, object: this.requests.label };
    const ask = (path: string) => this.requests.fetch({ ...listing, path });
    for await (const response of pagesOf(first, ask, about)) {
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
      const link = [response.headers['link'] ?? []].flat().join();
      const [, last] = /[?&]last=([^&>]*)/.exec(link) ?? [];
      const goesOn = last === encodeURIComponent(names.at(-1) ?? '');
      yield { names, goesOnAfterName: names.length > 0 && goesOn && isInOrder(names) };
    }
  }

  /** Removes a tag ("Deleting tags"). Answers false where the registry removes none, or not for us. */
  remove(tag: Tag): Promise<boolean> {
    return removeReference(this.requests, { part: `:${tag}`, purpose: 'could not remove a tag' });
  }
}
