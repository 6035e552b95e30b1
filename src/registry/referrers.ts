import type { Descriptor } from '../core/oci/descriptor';
import type { Digest } from '../core/oci/digest';
import { parseManifest } from '../core/oci/manifest';
import { mediaTypes } from '../core/oci/media-types';
import { isTag } from '../core/tags/tag';
import { pagesOf } from './pages';
import type { RepositoryRequests } from './requests';

/** So many are read that refer to one manifest. */
const most = 1_000;

/**
 * What refers to a manifest: by the list of the registry (OCI distribution specification, "Listing Referrers"); where it has
 * none, under the tag that stands for it there ("Referrers Tag Schema").
 */
export async function referrersOf(
  requests: RepositoryRequests,
  digest: Digest,
  byTag: (tag: string) => Promise<readonly Descriptor[]>,
): Promise<readonly Descriptor[]> {
  const about = { purpose: 'could not list what refers to a manifest', object: `${requests.label}@${digest}` };
  const found: Descriptor[] = [];
  const ask = (path: string) =>
    requests.fetch({
      method: 'GET',
      path,
      headers: { accept: mediaTypes.index },
      access: 'read',
      expect: [200, 400, 404, 405],
      purpose: about.purpose,
      part: `@${digest}`,
    });
  for await (const response of pagesOf(`referrers/${digest}`, ask, about)) {
    if (response.statusCode !== 200) {
      const tag = digest.replace(':', '-').slice(0, 128);
      return isTag(tag) ? byTag(tag) : [];
    }
    const list = parseManifest(response.body, { label: about.object, mediaType: mediaTypes.index });
    found.push(...(list.kind === 'index' ? list.manifests : []));
    if (found.length > most) {
      break;
    }
  }
  return found.slice(0, most);
}
