import { createHash } from 'node:crypto';
import { z } from 'zod';

/** A manifest that something belongs to. */
export interface Subject {
  digest: string;
  mediaType: string;
  size: number;
}

const indexType = 'application/vnd.oci.image.index.v1+json';
const manifestType = 'application/vnd.oci.image.manifest.v1+json';
const list = z.object({
  manifests: z.array(z.looseObject({ digest: z.string(), artifactType: z.string().optional() })),
});

/** A repository as somebody else uses it, by code that shares nothing with Hod. */
export class OtherClient {
  private readonly base: string;

  constructor(port: number, repository: string) {
    this.base = `http://127.0.0.1:${port}/v2/${repository}`;
  }

  /** What a tag or a digest leads to. */
  async subject(reference: string): Promise<Subject> {
    const response = await this.get(`manifests/${reference}`);
    const bytes = Buffer.from(await response.arrayBuffer());
    return { digest: digestOf(bytes), mediaType: response.headers.get('content-type') ?? '', size: bytes.length };
  }

  /** The members of an index. */
  async members(reference: string): Promise<Subject[]> {
    const response = await this.get(`manifests/${reference}`);
    const member = z.object({ digest: z.string(), mediaType: z.string(), size: z.number() });
    return z.object({ manifests: z.array(member) }).parse(await response.json()).manifests;
  }

  /**
   * Attaches something to a manifest: by its subject, and in the list under its tag where the registry keeps none; or under a
   * tag beside it.
   */
  async attach(subject: Subject, type: string, text: string, suffix?: string): Promise<Subject> {
    const { listed, made } = await this.push(subject, type, text, suffix);
    if (!listed) {
      await this.list(subject.digest, [...(await this.referrers(subject.digest)), made]);
    }
    return made;
  }

  /** Attaches many things at once. */
  async attachAll(subject: Subject, type: string, texts: readonly string[]): Promise<void> {
    const [first = '', ...others] = texts;
    // The first brings what all of them share.
    const all = [await this.push(subject, type, first)];
    all.push(...(await Promise.all(others.map((text) => this.push(subject, type, text)))));
    if (all.some(({ listed }) => !listed)) {
      await this.list(subject.digest, [...(await this.referrers(subject.digest)), ...all.map(({ made }) => made)]);
    }
  }

  /** Writes an artifact. `listed`: the registry lists it by itself, or nobody has to. */
  private async push(subject: Subject, type: string, text: string, suffix?: string) {
    const config = await this.blob('{}');
    const layer = await this.blob(text);
    const document = {
      schemaVersion: 2,
      mediaType: manifestType,
      ...(suffix === undefined ? { artifactType: type, subject } : {}),
      config: { mediaType: 'application/vnd.oci.empty.v1+json', ...config },
      layers: [{ mediaType: type, ...layer }],
      annotations: { 'org.skerry.note': text.slice(0, 20) },
    };
    const bytes = JSON.stringify(document);
    const digest = digestOf(bytes);
    const tag = `${subject.digest.replace(':', '-')}${suffix ?? ''}`;
    const response = await this.put(suffix === undefined ? digest : tag, bytes, manifestType);
    const listed = suffix !== undefined || response.headers.has('oci-subject');
    return { listed, made: { mediaType: manifestType, digest, size: bytes.length, artifactType: type } };
  }

  /** Pushes an image that says when it was made, or does not, under a tag. */
  async image(tag: string, created: string | undefined): Promise<string> {
    const config = await this.blob(
      JSON.stringify({ os: 'linux', architecture: 'amd64', created, config: { User: tag } }),
    );
    const layer = await this.blob(`layer of ${tag}`);
    const document = {
      ...{ schemaVersion: 2, mediaType: manifestType },
      config: { mediaType: 'application/vnd.oci.image.config.v1+json', ...config },
      layers: [{ mediaType: 'application/vnd.oci.image.layer.v1.tar', ...layer }],
    };
    const bytes = JSON.stringify(document);
    await this.put(tag, bytes, manifestType);
    return digestOf(bytes);
  }

  /** What refers to a manifest, whatever way the registry says so: digests and types. */
  async referrers(digest: string): Promise<{ digest: string; artifactType?: string | undefined }[]> {
    const found = [];
    for (let next: string | undefined = `${this.base}/referrers/${digest}`; next !== undefined;) {
      const response: Response = await fetch(next);
      if (!response.ok) {
        const tagged = await fetch(`${this.base}/manifests/${digest.replace(':', '-')}`, {
          headers: { accept: indexType },
        });
        return tagged.ok ? list.parse(await tagged.json()).manifests : [];
      }
      found.push(...list.parse(await response.json()).manifests);
      const [, path] = /<(.*)>; rel="next"/.exec(response.headers.get('link') ?? '') ?? [];
      next = path === undefined ? undefined : new URL(path, next).href;
    }
    return found;
  }

  /** The bytes of everything that belongs to a manifest, and to that: manifests and their blobs, by digest, each checked. */
  async everythingOn(digest: string): Promise<Map<string, string>> {
    const all = new Map<string, string>();
    for (const referrer of await this.referrers(digest)) {
      await this.read(`manifests/${referrer.digest}`, referrer.digest, all);
      for (const [key, bytes] of await this.everythingOn(referrer.digest)) {
        all.set(key, bytes);
      }
    }
    return all;
  }

  /** The text of the first layer of an artifact. */
  async text(reference: string): Promise<string> {
    const response = await this.get(`manifests/${reference}`);
    const [first] = z.object({ layers: z.array(z.object({ digest: z.string() })) }).parse(await response.json()).layers;
    return (await this.get(`blobs/${first?.digest ?? ''}`)).text();
  }

  /** Writes the list under the tag of a manifest. */
  async list(subject: string, manifests: readonly object[]): Promise<void> {
    const document = { schemaVersion: 2, mediaType: indexType, manifests };
    await this.put(subject.replace(':', '-'), JSON.stringify(document), indexType);
  }

  /** The digests of the layers of an image. */
  async layers(reference: string): Promise<string[]> {
    const response = await this.get(`manifests/${reference}`);
    const { layers } = z.object({ layers: z.array(z.object({ digest: z.string() })) }).parse(await response.json());
    return layers.map(({ digest }) => digest);
  }

  /** Takes away what refers to a manifest: itself, or from the list under a tag. */
  async detach(subject: string, referrer: string): Promise<void> {
    if ((await fetch(`${this.base}/referrers/${subject}`)).ok) {
      expect((await fetch(`${this.base}/manifests/${referrer}`, { method: 'DELETE' })).status).toBe(202);
      return;
    }
    await this.list(
      subject,
      (await this.referrers(subject)).filter(({ digest }) => digest !== referrer),
    );
  }

  async tag(tag: string, reference: string): Promise<void> {
    const response = await this.get(`manifests/${reference}`);
    await this.put(tag, await response.text(), response.headers.get('content-type') ?? '');
  }

  private async read(path: string, digest: string, into: Map<string, string>): Promise<void> {
    const bytes = Buffer.from(await (await this.get(path)).arrayBuffer());
    expect(digestOf(bytes)).toBe(digest);
    into.set(digest, bytes.toString('latin1'));
    if (path.startsWith('manifests/')) {
      const parts = z.object({ layers: z.array(z.object({ digest: z.string() })) }).parse(JSON.parse(bytes.toString()));
      for (const layer of parts.layers) {
        await this.read(`blobs/${layer.digest}`, layer.digest, into);
      }
    }
  }

  private async blob(text: string): Promise<{ digest: string; size: number }> {
    if ((await fetch(`${this.base}/blobs/${digestOf(text)}`, { method: 'HEAD' })).ok) {
      return { digest: digestOf(text), size: Buffer.byteLength(text) };
    }
    const begun = await fetch(`${this.base}/blobs/uploads/`, { method: 'POST' });
    const place = new URL(begun.headers.get('location') ?? '', this.base);
    const digest = digestOf(text);
    place.searchParams.set('digest', digest);
    const done = await fetch(place, {
      method: 'PUT',
      body: text,
      headers: { 'content-type': 'application/octet-stream' },
    });
    expect(done.status).toBe(201);
    return { digest, size: Buffer.byteLength(text) };
  }

  private async put(reference: string, bytes: string, type: string): Promise<Response> {
    const response = await fetch(`${this.base}/manifests/${reference}`, {
      method: 'PUT',
      body: bytes,
      headers: { 'content-type': type },
    });
    expect(response.status).toBe(201);
    return response;
  }

  private async get(path: string): Promise<Response> {
    const response = await fetch(`${this.base}/${path}`, { headers: { accept: `${indexType}, ${manifestType}` } });
    if (!response.ok) {
      throw new Error(`${path} is not there: ${response.status}`);
    }
    return response;
  }
}

function digestOf(bytes: string | Buffer): string {
  return `sha256:${createHash('sha256').update(bytes).digest('hex')}`;
}
