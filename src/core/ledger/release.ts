import * as z from 'zod';
import { commitSchema, type CommitId } from '../commit';
import { digestSchema, isDigest, sha256, type Digest } from '../oci/digest';
import { repositoryNameSchema } from '../oci/reference';
import { tagKinds } from '../tags/rules';
import { tagSchema } from '../oci/tag';
import { versionSchema, type Version } from '../tags/version';

declare const releaseBrand: unique symbol;
declare const contentBrand: unique symbol;

/** The name of a release: a hash of what makes it the one it is. Never the digest of anything in a registry. */
export type ReleaseId = string & { readonly [releaseBrand]: true };

/** The name of what a release holds, whatever commit and version it has. */
export type ContentId = string & { readonly [contentBrand]: true };

const isReleaseId = (text: string): text is ReleaseId => isDigest(text);
const isContentId = (text: string): text is ContentId => isDigest(text);

/** A release id at an edge. */
export const releaseIdSchema = z.custom<ReleaseId>(
  (value) => typeof value === 'string' && isReleaseId(value),
  'must be the id of a release',
);

/** A content id at an edge. */
export const contentIdSchema = z.custom<ContentId>(
  (value) => typeof value === 'string' && isContentId(value),
  'must be the id of content',
);

/** What a release is, and which build made it. */
export const originFields = {
  release: releaseIdSchema,
  commit: commitSchema,
  version: versionSchema.optional(),
  branch: z.string().optional(),
  /** The number that the CI gave to the build, and where its run can be looked at. */
  build: z.string().optional(),
  run: z.string().optional(),
};

/** Where an included component came from: the repository that it was copied from, and its release there or its tag. */
const includedSchema = z.object({
  repository: repositoryNameSchema,
  /** The tag that hod.yaml named. */
  tag: tagSchema.optional(),
  /** The product whose ledger named it, and its release of that product. */
  product: z.string().optional(),
  version: versionSchema.optional(),
  commit: commitSchema.optional(),
});
export type Included = z.infer<typeof includedSchema>;

/** A component as it stands in the repository of an environment. */
export const placedComponentSchema = z.object({
  component: z.string(),
  repository: repositoryNameSchema,
  digest: digestSchema,
  mediaType: z.string(),
  /** Bytes of the manifest. */
  size: z.number().int(),
  /** `os/arch[/variant]` of everything that runs. */
  platforms: z.array(z.string()),
  /** The image for each platform; only where tags lead to these. */
  images: z.array(z.object({ platform: z.string(), digest: digestSchema })).optional(),
  /** Where it came from, of a component that another product builds. */
  included: includedSchema.optional(),
});

/** An image of a component, and its config, by which nodes name it. */
export const releaseImageSchema = z.object({
  component: z.string(),
  /** `os/arch[/variant]` */
  platform: z.string(),
  digest: digestSchema,
  config: digestSchema.optional(),
});
export type ReleaseImage = z.infer<typeof releaseImageSchema>;

/** A tag that points to a digest from now on, by decision of an entry. */
export const setTagSchema = z.object({
  component: z.string(),
  repository: repositoryNameSchema,
  tag: tagSchema,
  kind: z.enum(tagKinds),
  digest: digestSchema,
  /** The platform of the image that it leads to; undefined where it leads to the whole component. */
  platform: z.string().optional(),
});

export type PlacedComponent = z.infer<typeof placedComponentSchema>;
export type SetTag = z.infer<typeof setTagSchema>;

/** A component and its digest. */
export interface ComponentDigest {
  readonly component: string;
  readonly digest: Digest;
}

/** What makes a release the one it is. */
export interface ReleaseIdentity {
  product: string;
  commit: CommitId;
  version: Version | undefined;
  components: readonly ComponentDigest[];
}

/** The name of a release: equal for equal content of one commit under one version, wherever it is published from. */
export function releaseId({ product, commit, version, components }: ReleaseIdentity): ReleaseId {
  const id: string = sha256(JSON.stringify([product, commit, version ?? null, sorted(components)]));
  if (!isReleaseId(id)) {
    throw new Error(`${id} is not the id of a release`);
  }
  return id;
}

/** The name of what a release holds. */
export function contentId(components: readonly ComponentDigest[]): ContentId {
  const id: string = sha256(JSON.stringify(sorted(components)));
  if (!isContentId(id)) {
    throw new Error(`${id} is not the id of content`);
  }
  return id;
}

function sorted(components: readonly ComponentDigest[]): string[][] {
  return components.map(({ component, digest }) => [component, digest]).sort();
}
