import { isDigest, type Digest } from '../../core/oci/digest';
import { manifestSizeLimit, parseManifest, type Manifest } from '../../core/oci/manifest';
import { mediaTypes } from '../../core/oci/media-types';
import { answerJson } from '../http';
import type { RegistryContents } from './contents';
import { readAll, RegistryError, type Exchange } from './exchange';

/** Manifests that were read: a digest is one manifest for ever. */
const read = new WeakMap<RegistryContents, Map<Digest, Manifest>>();

async function readManifest(contents: RegistryContents, digest: Digest, mediaType: string): Promise<Manifest> {
  const known = read.get(contents) ?? new Map<Digest, Manifest>();
  read.set(contents, known);
  const found = known.get(digest);
  if (found !== undefined) {
    return found;
  }
  const size = (await contents.blobs.size(digest)) ?? 0;
  const bytes = await readAll(contents.blobs.read(digest, 0, Math.max(size - 1, 0)), manifestSizeLimit);
  const manifest = parseManifest(bytes, { label: digest, mediaType, digest });
  known.set(digest, manifest);
  return manifest;
}

/** So many stand on a page. */
const pageSize = 50;

/** What refers to a manifest, in pages. */
export async function handleReferrers(
  contents: RegistryContents,
  { response, name, rest, query }: Exchange,
): Promise<void> {
  if (!isDigest(rest)) {
    throw new RegistryError(400, 'DIGEST_INVALID', 'referrers are asked for by digest');
  }
  const wanted = query.get('artifactType');
  const found = [];
  const all = [...(contents.catalogue.repositories.get(name)?.manifests ?? [])];
  let next: string | undefined;
  for (const [at, [digest, mediaType]] of all.entries()) {
    if (at < Number(query.get('from') ?? 0)) {
      continue;
    }
    if (found.length === pageSize) {
      next = `/v2/${name}/referrers/${rest}?from=${at}${wanted === null ? '' : `&artifactType=${encodeURIComponent(wanted)}`}`;
      break;
    }
    const manifest = await readManifest(contents, digest, mediaType);
    const size = manifest.bytes.length;
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
      ...(next === undefined ? {} : { link: `<${next}>; rel="next"` }),
      ...(wanted === null ? {} : { 'oci-filters-applied': 'artifactType' }),
    },
  );
}
