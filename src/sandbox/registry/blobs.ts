import { pipeline } from 'node:stream/promises';
import { isDigest, type Digest } from '../../core/oci/digest';
import { answerEmpty } from '../http';
import type { BlobStore } from './blob-store';
import type { RegistryContents } from './contents';
import { RegistryError, type Exchange } from './exchange';

/** Blobs: pulling and removing them. */
export async function handleBlob(contents: RegistryContents, exchange: Exchange): Promise<void> {
  const { method, name, rest, response } = exchange;
  const repository = contents.repository(name);
  if (!isDigest(rest) || !repository.blobs.has(rest)) {
    throw new RegistryError(404, 'BLOB_UNKNOWN', `there is no blob ${rest}`);
  }
  if (method === 'DELETE') {
    repository.blobs.delete(rest);
    const used = [...contents.catalogue.repositories.values()].some(({ blobs }) => blobs.has(rest));
    if (!used) {
      await contents.blobs.remove(rest);
    }
    contents.catalogue.save();
    return answerEmpty(response, 202);
  }
  await sendBlob(contents.blobs, exchange, rest, { 'content-type': 'application/octet-stream' });
}

/** Sends the bytes of something that is kept, or the part of them that is asked for. */
export async function sendBlob(
  blobs: BlobStore,
  exchange: Exchange,
  digest: Digest,
  headers: Record<string, string>,
): Promise<void> {
  const { request, response, method } = exchange;
  const size = await blobs.size(digest);
  if (size === undefined) {
    throw new RegistryError(404, 'BLOB_UNKNOWN', `there is no blob ${digest}`);
  }
  if (method !== 'GET' && method !== 'HEAD') {
    throw new RegistryError(405, 'UNSUPPORTED', `${method} is not possible here`);
  }
  // RFC 9110 §14.2: one range of bytes; any other form is answered with the whole.
  const range = /^bytes=(\d+)-(\d*)$/.exec(request.headers.range ?? '');
  const start = range?.[1] === undefined ? 0 : Number(range[1]);
  const end = range?.[2] === undefined || range[2] === '' ? size - 1 : Math.min(Number(range[2]), size - 1);
  if (range !== null && start >= size) {
    throw new RegistryError(416, 'SIZE_INVALID', `the blob has ${size} bytes`);
  }
  const part = range === null ? {} : { 'content-range': `bytes ${start}-${end}/${size}` };
  response.writeHead(range === null ? 200 : 206, {
    ...headers,
    ...part,
    'accept-ranges': 'bytes',
    'content-length': String(size === 0 ? 0 : end - start + 1),
    'docker-content-digest': digest,
  });
  if (method === 'HEAD' || size === 0) {
    response.end();
    return;
  }
  await pipeline(blobs.read(digest, start, end), response).catch(() => response.destroy());
}
