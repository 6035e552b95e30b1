import { spawn } from 'node:child_process';
import { createHash } from 'node:crypto';
import { once } from 'node:events';
import { mkdtemp, readFile, rm } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { createInterface } from 'node:readline';
import * as z from 'zod';
import { program } from '../support/hod';

const imageType = 'application/vnd.oci.image.manifest.v1+json';
const indexType = 'application/vnd.oci.image.index.v1+json';
const answerSchema = z.object({ registries: z.array(z.object({ name: z.string(), registry: z.string() })) });

/** Starts `hod sandbox`, and answers its registries' base URLs and how to end it. */
async function startSandbox(args: string[], env: Record<string, string> = {}) {
  const child = spawn(process.execPath, [program, 'sandbox', '--port', '0', '--json', ...args], {
    env: { ...process.env, ...env },
    stdio: ['ignore', 'pipe', 'inherit'],
  });
  const [line]: unknown[] = await once(createInterface({ input: child.stdout }), 'line');
  const { registries } = answerSchema.parse(JSON.parse(String(line)));
  return {
    bases: registries.map(({ registry }) => `http://127.0.0.1:${registry.split(':')[1] ?? ''}/v2`),
    end: async () => {
      child.kill('SIGTERM');
      const [code]: unknown[] = await once(child, 'exit');
      expect(code).toBe(0);
    },
  };
}

const digestOf = (bytes: string | Buffer) => `sha256:${createHash('sha256').update(bytes).digest('hex')}`;
const put = (url: string, body: string, headers: Record<string, string> = {}) =>
  fetch(url, { method: 'PUT', body, headers });
const post = (url: string) => fetch(url, { method: 'POST' });

async function pushBlob(base: string, name: string, text: string) {
  const response = await fetch(`${base}/${name}/blobs/uploads/?digest=${digestOf(text)}`, {
    method: 'POST',
    body: text,
  });
  expect(response.status).toBe(201);
  return { mediaType: 'application/octet-stream', digest: digestOf(text), size: text.length };
}

function manifestOf(config: object, extra: object = {}): string {
  return JSON.stringify({ schemaVersion: 2, mediaType: imageType, config, layers: [], ...extra });
}

test('it speaks the distribution protocol: chunks, mounts, pages, ranges, referrers, deletion, and says no where it must', async () => {
  const { bases, end } = await startSandbox(['one', 'two', '--immutable', '^\\d']);
  expect(bases).toHaveLength(2);
  const base = bases[0] ?? '';
  expect((await fetch(`${base}/`)).status).toBe(200);

  // In chunks, with a chunk out of order refused and the offset told.
  const begun = await post(`${base}/skerry/a/blobs/uploads/`);
  expect(begun.status).toBe(202);
  const location = new URL(begun.headers.get('location') ?? '', base).href;
  const patch = (body: string, range: string) =>
    fetch(location, { method: 'PATCH', body, headers: { 'content-range': range } });
  expect((await patch('tide ', '0-4')).headers.get('range')).toBe('0-4');
  expect((await patch('high', '9-12')).status).toBe(416);
  expect((await fetch(location)).headers.get('range')).toBe('0-4');
  expect((await patch('high', '5-8')).status).toBe(202);
  expect((await put(`${location}?digest=${digestOf('tide low')}`, '')).status).toBe(400);
  const blob = await pushBlob(base, 'skerry/a', 'tide high');
  const url = `${base}/skerry/a/blobs/${blob.digest}`;
  const part = await fetch(url, { headers: { range: 'bytes=5-' } });
  expect([part.status, await part.text(), part.headers.get('content-range')]).toEqual([206, 'high', 'bytes 5-8/9']);
  expect((await fetch(url, { headers: { range: 'bytes=9-' } })).status).toBe(416);

  // A mount works within the registry, and falls back to an upload otherwise.
  const mount = (to: string, from: string) => post(`${base}/${to}/blobs/uploads/?mount=${blob.digest}&from=${from}`);
  expect((await mount('skerry/b', 'skerry/a')).status).toBe(201);
  expect((await mount('skerry/c', 'skerry/nowhere')).status).toBe(202);
  expect((await fetch(`${base}/skerry/c/blobs/${blob.digest}`)).status).toBe(404);

  // Manifests: content first, fixed tags once, the type that was sent.
  const image = manifestOf(blob);
  const manifests = `${base}/skerry/a/manifests`;
  expect((await put(`${base}/skerry/c/manifests/1.0.0`, image, { 'content-type': imageType })).status).toBe(404);
  const index = (digest: string) =>
    JSON.stringify({ schemaVersion: 2, mediaType: indexType, manifests: [{ mediaType: imageType, digest, size: 1 }] });
  expect((await put(`${manifests}/i`, index(digestOf('nothing')), { 'content-type': indexType })).status).toBe(404);
  for (const tag of ['1.0.0', 'a', 'b', 'c', 'd']) {
    expect((await put(`${manifests}/${tag}`, image, { 'content-type': imageType })).status).toBe(201);
  }
  const other = manifestOf(blob, { annotations: { note: 'other' } });
  expect((await put(`${manifests}/1.0.0`, other, { 'content-type': imageType })).status).toBe(409);
  expect((await put(`${manifests}/a`, other, { 'content-type': imageType })).status).toBe(201);
  expect((await put(`${manifests}/${digestOf('x')}`, other, { 'content-type': imageType })).status).toBe(400);
  expect((await fetch(`${manifests}/1.0.0`)).headers.get('content-type')).toBe(imageType);

  // Pages, by the link that each names.
  const tags: string[] = [];
  let page: string | undefined = `${base}/skerry/a/tags/list?n=2`;
  while (page !== undefined) {
    const response: Response = await fetch(page);
    tags.push(...z.object({ tags: z.array(z.string()) }).parse(await response.json()).tags);
    const link = /<(.*)>; rel="next"/.exec(response.headers.get('link') ?? '');
    page = link?.[1] === undefined ? undefined : new URL(link[1], base).href;
  }
  expect(tags).toEqual(['1.0.0', 'a', 'b', 'c', 'd']);

  // Referrers, by type.
  const subject = { mediaType: imageType, digest: digestOf(image), size: image.length };
  const record = manifestOf(blob, { subject, artifactType: 'application/vnd.skerry.note' });
  const stored = await put(`${manifests}/${digestOf(record)}`, record, { 'content-type': imageType });
  expect(stored.headers.get('oci-subject')).toBe(subject.digest);
  const referrers = async (query: string) => {
    const response = await fetch(`${base}/skerry/a/referrers/${subject.digest}${query}`);
    return z.object({ manifests: z.array(z.object({ digest: z.string() })) }).parse(await response.json()).manifests;
  };
  expect(await referrers('')).toEqual([{ digest: digestOf(record) }]);
  expect(await referrers('?artifactType=application/vnd.skerry.other')).toEqual([]);

  expect((await fetch(`${manifests}/b`, { method: 'DELETE' })).status).toBe(202);
  expect((await fetch(`${manifests}/b`)).status).toBe(404);
  expect((await fetch(url, { method: 'DELETE' })).status).toBe(202);
  expect((await fetch(url)).status).toBe(404);
  expect((await fetch(`${bases[1] ?? ''}/skerry/a/tags/list`)).status).toBe(404);
  await end();
});

test('it asks for a login, keeps its content in a folder, and logs requests without secrets', async () => {
  const folder = await mkdtemp(join(tmpdir(), 'hod-sandbox-'));
  const log = join(folder, 'requests');
  const args = ['--folder', folder, '--user', 'una', '--log', log];
  const env = { HOD_SANDBOX_PASSWORD: 'gulls-and-terns' };
  const authorization = `Basic ${Buffer.from('una:gulls-and-terns').toString('base64')}`;
  const first = await startSandbox(args, env);
  const base = first.bases[0] ?? '';
  const refused = await fetch(`${base}/`);
  expect([refused.status, refused.headers.get('www-authenticate')]).toEqual([401, 'Basic realm="sandbox"']);
  const url = (of: string) => `${of}/skerry/a/blobs/uploads/?digest=${digestOf('kept')}`;
  expect((await fetch(url(base), { method: 'POST', body: 'kept', headers: { authorization } })).status).toBe(201);
  await first.end();

  const second = await startSandbox(args, env);
  const kept = await fetch(`${second.bases[0] ?? ''}/skerry/a/blobs/${digestOf('kept')}`, {
    headers: { authorization },
  });
  expect(await kept.text()).toBe('kept');
  await second.end();
  const lines = (await readFile(log, 'utf8')).trim().split('\n');
  expect(lines.map((line) => z.object({ status: z.number() }).parse(JSON.parse(line)).status)).toEqual([401, 201, 200]);
  expect(lines.join()).not.toContain(authorization.slice(6));
  await rm(folder, { recursive: true });
});
