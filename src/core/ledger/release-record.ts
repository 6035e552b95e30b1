import * as z from 'zod';
import { commitSchema } from '../commit';
import { parseJson } from '../json';
import type { ContentNode } from '../oci/content';
import { digestSchema } from '../oci/digest';
import type { Manifest } from '../oci/manifest';
import { versionSchema } from '../tags/version';
import { timestampSchema } from '../time';
import type { Release } from './facts';
import { documentArtifact } from './record-artifact';
import { releaseId, releaseIdSchema } from './release';

/** The artifact type of a release record, and the media type of its document (docs/referrers.md). */
export const recordType = 'application/vnd.hod.release.v1+json';

const recordSchema = z.object({
  product: z.string(),
  /** The id of the release: a hash of what makes it the one it is. */
  release: releaseIdSchema,
  version: versionSchema.optional(),
  commit: commitSchema,
  branch: z.string().optional(),
  /** The build was of a pull request. */
  pullRequest: z.literal(true).optional(),
  /** The number that the CI gave to the build, and where its run can be looked at. */
  build: z.string().optional(),
  run: z.string().optional(),
  published: timestampSchema,
  components: z.array(
    z.object({
      component: z.string(),
      digest: digestSchema,
      mediaType: z.string(),
      size: z.number().int(),
      platforms: z.array(z.string()),
    }),
  ),
  /** Every component that the product had then, where the release holds only some of them. */
  lists: z.array(z.string()).optional(),
});

/** What a registry tells of a release by itself. Who published it is not in it: registries may be public. */
export type ReleaseRecord = z.infer<typeof recordSchema>;

/** The record of a release. */
export function recordOf(
  product: string,
  { release, version, commit, branch, branches, build, run, at, components, lists }: Release,
): ReleaseRecord {
  // The name of a pull request is no branch.
  const isBranch = branch === undefined || branches.includes(branch);
  return {
    product,
    release,
    version,
    commit,
    branch,
    pullRequest: isBranch ? undefined : true,
    build,
    run,
    published: at,
    components: components
      .map(({ component, digest, mediaType, size, platforms }) => ({ component, digest, mediaType, size, platforms }))
      .sort((a, b) => (a.component < b.component ? -1 : 1)),
    lists: lists && [...lists].sort(),
  };
}

/**
 * Makes the artifact that holds a release record and refers to the manifest of a component. Every run makes the same bytes of the
 * same release and manifest.
 */
export function recordArtifact(record: ReleaseRecord, subject: Manifest): ContentNode {
  return documentArtifact(
    recordType,
    record,
    subject,
    `the record of ${record.product} ${record.version ?? record.commit}`,
  );
}

/**
 * Reads the document of a release record; undefined where it is none, one that this Hod does not know, or one whose release
 * has another id than its content says.
 */
export function readRecord(bytes: Uint8Array): ReleaseRecord | undefined {
  const { data } = recordSchema.safeParse(parseJson(bytes));
  return data !== undefined && releaseId({ ...data, version: data.version }) === data.release ? data : undefined;
}
