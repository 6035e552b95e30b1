import { sha256 } from '../../core/oci/digest';
import { registrySays } from '../../http/status-problems';
import type { UploadSession } from './session';

/**
 * Finds out whether a registry refuses content that is not what its digest says: a few bytes are sent under the digest of
 * others, in the way of large blobs. Only a refusal that names that cause counts; undefined where it is refused for another.
 */
export async function probeChecking(session: UploadSession): Promise<boolean | undefined> {
  const bytes = Buffer.from('sent under the digest of other bytes');
  const begun = { location: await session.begin(), offset: 0 };
  const sent = await session.sendChunk(begun, bytes.length, () => bytes);
  const location = sent.kind === 'taken' ? sent.location : begun.location;
  const response = await session.complete(location, sha256('other bytes'));
  const { codes } = await registrySays(response, session.secrets);
  return response.statusCode === 201 ? false : codes.includes('DIGEST_INVALID') || undefined;
}
