import { readdir, readFile } from 'node:fs/promises';
import { join } from 'node:path';
import { z } from 'zod';

const descriptor = z.object({ digest: z.string(), mediaType: z.string() });
const layout = z.object({ manifests: z.tuple([descriptor]) });
const manifest = z.object({ mediaType: z.string(), manifests: z.array(descriptor).optional() });

/** Pushes an image layout as a builder does that pushes by itself: code that shares nothing with Hod. Answers the digest that it prints. */
export async function pushLayout(port: number, repository: string, folder: string, tag: string): Promise<string> {
  const base = `http://127.0.0.1:${port}/v2/${repository}`;
  const blobs = join(folder, 'blobs', 'sha256');
  const put = async (url: string, body: Buffer, type: string): Promise<void> => {
    const response = await fetch(url, { method: 'PUT', body: new Uint8Array(body), headers: { 'content-type': type } });
    if (response.status !== 201) {
      throw new Error(`${url}: ${response.status} ${await response.text()}`);
    }
  };
  for (const hex of await readdir(blobs)) {
    const begun = await fetch(`${base}/blobs/uploads/`, { method: 'POST' });
    const place = new URL(begun.headers.get('location') ?? '', base);
    place.searchParams.set('digest', `sha256:${hex}`);
    await put(place.href, await readFile(join(blobs, hex)), 'application/octet-stream');
  }
  const pushManifest = async (digest: string, reference: string): Promise<void> => {
    const bytes = await readFile(join(blobs, digest.slice('sha256:'.length)));
    const { mediaType, manifests = [] } = manifest.parse(JSON.parse(bytes.toString('utf8')));
    for (const member of manifests) {
      await pushManifest(member.digest, member.digest);
    }
    await put(`${base}/manifests/${reference}`, bytes, mediaType);
  };
  const { manifests } = layout.parse(JSON.parse(await readFile(join(folder, 'index.json'), 'utf8')));
  await pushManifest(manifests[0].digest, tag);
  return manifests[0].digest;
}
