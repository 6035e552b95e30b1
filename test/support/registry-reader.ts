import { createHash } from 'node:crypto';
import { z } from 'zod';

const descriptor = z.object({ digest: z.string(), size: z.number() });
const document = z.object({
  manifests: z.array(descriptor).optional(),
  config: descriptor.optional(),
  layers: z.array(descriptor).optional(),
});
const accept = [
  'application/vnd.oci.image.index.v1+json',
  'application/vnd.oci.image.manifest.v1+json',
  'application/vnd.docker.distribution.manifest.list.v2+json',
  'application/vnd.docker.distribution.manifest.v2+json',
].join(', ');

/** What a repository serves, read over HTTP by code that shares nothing with Hod. */
export interface Served {
  /** The digest that each tag resolves to. */
  tags: Record<string, string>;
  /** The bytes (as latin-1 text) of every manifest below a tag. */
  manifests: Record<string, string>;
  /** The digests of all blobs below a tag, each read and hashed. */
  blobs: string[];
}

/** Reads all tags of a repository and everything below them. Throws where anything is missing or has other bytes. */
export async function readRepository(port: number, name: string): Promise<Served> {
  // A connection that is kept may be closed by the server just when it is used again.
  const headers = { accept, connection: 'close' };
  const base = `http://127.0.0.1:${port}/v2/${name}`;
  const get = async (path: string): Promise<Buffer> => {
    const response = await fetch(`${base}/${path}`, { headers });
    if (!response.ok) {
      throw new Error(`${path} of ${name} is not there: ${response.status}`);
    }
    return Buffer.from(await response.arrayBuffer());
  };
  const served: Served = { tags: {}, manifests: {}, blobs: [] };
  const listing = await fetch(`${base}/tags/list`, { headers });
  if (listing.status === 404) {
    return served;
  }
  const { tags } = z.object({ tags: z.array(z.string()).nullable() }).parse(await listing.json());

  const readManifest = async (reference: string): Promise<string> => {
    const bytes = await get(`manifests/${reference}`);
    const digest = hash(bytes);
    if (reference.startsWith('sha256:') && reference !== digest) {
      throw new Error(`${reference} has the bytes of ${digest}`);
    }
    if (served.manifests[digest] !== undefined) {
      return digest;
    }
    served.manifests[digest] = bytes.toString('latin1');
    const { manifests = [], config, layers = [] } = document.parse(JSON.parse(bytes.toString('utf8')));
    for (const child of manifests) {
      await readManifest(child.digest);
    }
    for (const blob of [...(config === undefined ? [] : [config]), ...layers]) {
      if (!served.blobs.includes(blob.digest)) {
        const content = await get(`blobs/${blob.digest}`);
        if (hash(content) !== blob.digest || content.length !== blob.size) {
          throw new Error(`the blob ${blob.digest} has other bytes`);
        }
        served.blobs.push(blob.digest);
      }
    }
    return digest;
  };
  // Tags that are made of a digest list what belongs to an image: who reads that is `OtherClient`.
  for (const tag of (tags ?? []).filter((each) => !/^sha256-[0-9a-f]{64}/.test(each))) {
    served.tags[tag] = await readManifest(tag);
  }
  served.blobs.sort();
  return served;
}

function hash(bytes: Buffer): string {
  return `sha256:${createHash('sha256').update(bytes).digest('hex')}`;
}
