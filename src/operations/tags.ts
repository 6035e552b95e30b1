import type { Tag } from '../core/oci/tag';
import { eachTag, readTags, type TagsQuestion } from '../inspect/tags';
import { toTagsResult, type TagsResult } from '../results/tags';
import { withProductIfAny, type SessionOptions } from '../session/session';

/** What `tags` is told. */
export interface TagsOptions extends SessionOptions, TagsQuestion {
  /** How many tags are looked at. */
  most: number;
}

/** The tags of a component in each environment, or of one repository, by what they lead to. */
export async function tags(options: TagsOptions): Promise<TagsResult> {
  return withProductIfAny(options, async (config, session) =>
    toTagsResult(await readTags(options, options.most, { config, session })),
  );
}

/** The name of every tag, as the registry lists them, one after the other. */
export async function listTagNames(options: TagsOptions, told: (tag: Tag) => Promise<void>): Promise<void> {
  await withProductIfAny(options, (config, session) => eachTag(options, { config, session }, told));
}
