import * as z from 'zod';
import { tagKinds } from '../core/tags/rules';
import type { RepositoryTidied } from '../core/ledger/facts';
import type { TaggedRepository } from '../inspect/tags';
import { digest } from './common';

export const tagsResultSchema = z.strictObject({
  repositories: z.array(
    z.strictObject({
      repository: z.string(),
      /** False where the registry does not have it: some make a repository with its first upload. */
      exists: z.boolean(),
      /** How many tags it has that were asked for; of some of them, those that are shown first, the rest says more. */
      count: z.number().int(),
      /** What `hod tidy` has removed from it so far, and who did it last, when and by which rule; null where nothing is known of it. */
      tidied: z
        .strictObject({ digests: z.number().int(), by: z.string(), at: z.string(), rule: z.string() })
        .nullable(),
      digests: z.array(
        z.strictObject({
          digest,
          /** Null where it cannot be read, or is no manifest that Hod knows. */
          mediaType: z.string().nullable(),
          tags: z.array(
            z.strictObject({
              tag: z.string(),
              kind: z.enum(tagKinds),
              /** Whether the ledger says which kind it is, or only its form. */
              known: z.boolean(),
            }),
          ),
          platforms: z.array(z.string()),
          /** When it came here, by the ledger; null where that does not know it. */
          since: z.string().nullable(),
          /** When the newest of its images says that it was made. */
          created: z.string().nullable(),
          revision: z.string().nullable(),
          version: z.string().nullable(),
          /** The environments of hod.yaml that serve it. */
          servedBy: z.array(z.string()),
        }),
      ),
    }),
  ),
});
export type TagsResult = z.infer<typeof tagsResultSchema>;

/** The tags of repositories, as a document. */
export function toTagsResult(repositories: readonly TaggedRepository[]): TagsResult {
  return {
    repositories: repositories.map(({ digests, tidied, ...repository }) => ({
      ...repository,
      tidied: tidied === undefined ? null : toTidied(tidied),
      digests: digests.map((each) => ({
        ...each,
        mediaType: each.mediaType ?? null,
        tags: [...each.tags],
        platforms: [...each.platforms],
        since: each.since ?? null,
        created: each.created ?? null,
        revision: each.revision ?? null,
        version: each.version ?? null,
        servedBy: [...each.servedBy],
      })),
    })),
  };
}

export const repositoriesResultSchema = z.strictObject({
  registry: z.string(),
  /** Who says so: the registry, or hod.yaml, where that does not list them. */
  source: z.enum(['registry', 'hod.yaml']),
  repositories: z.array(z.string()),
  /** False where there are more than are told. */
  whole: z.boolean(),
});
export type RepositoriesResult = z.infer<typeof repositoriesResultSchema>;

function toTidied({ digests, by, at, keep }: RepositoryTidied) {
  return { digests, by, at, rule: keep };
}
