import { isDigest } from '../../core/oci/digest';
import { manifestSizeLimit, parseManifest } from '../../core/oci/manifest';
import { mediaTypes } from '../../core/oci/media-types';
import { answerJson } from '../http';
import type { RegistryContents } from './contents';
import { readAll, RegistryError, type Exchange } from './exchange';

/** What refers to a manifest. */
export async function handleReferrers(
  contents: RegistryContents,
  { response, name, rest, query }: Exchange,
): Promise<void> {
  if (!isDigest(rest)) {
    throw new RegistryError(400, 'DIGEST_INVALID', 'referrers are asked for by digest');
  }
  const wanted = query.get('artifactType');
  const found = [];
  for (const [digest, mediaType] of contents.catalogue.repositories.get(name)?.manifests ?? []) {
    const size = (await contents.blobs.size(digest)) ?? 0;
    const bytes = await readAll(contents.blobs.read(digest, 0, Math.max(size - 1, 0)), manifestSizeLimit);
    const manifest = parseManifest(bytes, { label: digest, mediaType, digest });
    const artifactType = manifest.artifactType ?? (manifest.kind === 'image' ? manifest.config.mediaType : undefined);
    if (manifest.subject?.digest === rest && (wanted === null || artifactType === wanted)) {
      found.push({ mediaType, digest, size, artifactType, annotations: manifest.annotations });
    }
  }
  answerJson(
    response,
    200,
    { schemaVersion: 2, mediaType: mediaTypes.index, manifests: found },
    {
      'content-type': mediaTypes.index,
      ...(wanted === null ? {} : { 'oci-filters-applied': 'artifactType' }),
    },
  );
}
