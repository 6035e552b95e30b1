import { isCommitId } from '../core/commit';
import { annotationKeys } from '../core/oci/annotations';
import { readImageClaims, readManifest, type ContentSource } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import type { Manifest } from '../core/oci/manifest';
import type { Position } from '../core/tags/ordering';
import type { Tag } from '../core/oci/tag';
import { compareVersions, isReleaseOn, versionNamed, type Version, type VersionLine } from '../core/tags/version';
import type { RepositoryReader } from '../registry/ports';

/** How many version tags are asked for what they point to, from the highest down. */
const versionsAsked = 30;

/**
 * What a registry tells of a manifest that the ledger does not know: the commit and version in its
 * annotations and labels, else the version whose tag points to it.
 *
 * `withVersion`: the version matters; finding it may take a request for each version.
 */
export async function readProvenance(
  source: RepositoryReader,
  { digest, withVersion }: { readonly digest: Digest; readonly withVersion: boolean },
): Promise<Position | undefined> {
  const manifest = await source.manifests.get(digest);
  if (manifest === undefined) {
    return undefined;
  }
  const claims = await claimsOf(manifest, source);
  const { revision = '' } = claims;
  const commit = isCommitId(revision) ? revision : undefined;
  const version = withVersion
    ? (versionNamed(claims.version ?? '') ?? (await versionTagged(source, digest)))
    : undefined;
  return commit === undefined && version === undefined ? undefined : { commit, version };
}

/** The highest release on a line of versions that has a tag in a repository. */
export async function highestTagged(source: RepositoryReader, line: VersionLine): Promise<Version | undefined> {
  const versions = (await versionTags(source)).map(({ version }) => version);
  return versions.find((version) => isReleaseOn(line, version));
}

async function claimsOf(
  manifest: Manifest,
  source: ContentSource,
): Promise<{ revision: string | undefined; version: string | undefined }> {
  const own = {
    revision: manifest.annotations.get(annotationKeys.revision),
    version: manifest.annotations.get(annotationKeys.version),
  };
  if (own.revision !== undefined) {
    return own;
  }
  if (manifest.kind === 'image') {
    const claims = await readImageClaims(manifest, source);
    return { revision: claims.revision, version: own.version ?? claims.version };
  }
  const [first] = manifest.manifests;
  if (first === undefined) {
    return own;
  }
  const child = await readManifest(source, first);
  const claims = child.kind === 'image' ? await claimsOf(child, source) : own;
  return { revision: claims.revision, version: own.version ?? claims.version };
}

async function versionTagged(source: RepositoryReader, digest: Digest): Promise<Version | undefined> {
  for (const { tag, version } of (await versionTags(source)).slice(0, versionsAsked)) {
    if ((await source.manifests.resolve(tag)) === digest) {
      return version;
    }
  }
  return undefined;
}

/** The tags that are versions, the highest first. */
async function versionTags(source: RepositoryReader): Promise<{ tag: Tag; version: Version }[]> {
  const found: { tag: Tag; version: Version }[] = [];
  for await (const tag of source.tags.list()) {
    const version = versionNamed(tag.replace('_', '+'));
    if (version !== undefined) {
      found.push({ tag, version });
    }
  }
  return found.sort((a, b) => compareVersions(b.version, a.version));
}
