import { createHash } from 'node:crypto';
import { mkdir, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import type { Writable } from 'node:stream';
import type { Spoil } from './network';

export const types = {
  index: 'application/vnd.oci.image.index.v1+json',
  manifest: 'application/vnd.oci.image.manifest.v1+json',
  config: 'application/vnd.oci.image.config.v1+json',
  layer: 'application/vnd.oci.image.layer.v1.tar',
} as const;

export interface Described {
  mediaType: string;
  digest: string;
  size: number;
  [more: string]: unknown;
}

export function digestOf(bytes: Buffer): string {
  return `sha256:${createHash('sha256').update(bytes).digest('hex')}`;
}

/** Content that a registry or a layout may hold, right or wrong. */
export class Content {
  private readonly blobs = new Map<string, { mediaType: string; bytes: Buffer }>();
  private readonly tags = new Map<string, string>();

  add(mediaType: string, content: object | string | Buffer, claims: Partial<Described> = {}): Described {
    const bytes = Buffer.isBuffer(content)
      ? content
      : Buffer.from(typeof content === 'string' ? content : JSON.stringify(content));
    const digest = digestOf(bytes);
    this.blobs.set(digest, { mediaType, bytes });
    return { mediaType, digest, size: bytes.length, ...claims };
  }

  /** An image of one small layer; what is given replaces what a good one would say. */
  image(manifest: object = {}, config: object = {}, layer: object = {}): Described {
    return this.add(types.manifest, {
      schemaVersion: 2,
      mediaType: types.manifest,
      config: this.add(types.config, { os: 'linux', architecture: 'amd64', rootfs: { diff_ids: [] }, ...config }),
      layers: [{ ...this.add(types.layer, Buffer.alloc(1024)), ...layer }],
      ...manifest,
    });
  }

  index(manifests: readonly object[], more: object = {}): Described {
    return this.add(types.index, { schemaVersion: 2, mediaType: types.index, manifests, ...more });
  }

  tag(name: string, { digest }: Described): void {
    this.tags.set(name, digest);
  }

  /** Serves it: reading only, whatever the repository is called. */
  readonly serve: Spoil = ({ method, url = '' }, response) => {
    const [, kind, reference = ''] = /\/(manifests|blobs)\/([^/?]+)$/.exec(url) ?? [];
    const digest = this.tags.get(reference) ?? reference;
    const found = this.blobs.get(digest);
    if (kind === undefined || found === undefined || (method !== 'GET' && method !== 'HEAD')) {
      return false;
    }
    const type = kind === 'blobs' ? 'application/octet-stream' : found.mediaType;
    const headers = { 'content-type': type, 'content-length': found.bytes.length, 'docker-content-digest': digest };
    response.writeHead(200, headers).end(method === 'GET' ? found.bytes : undefined);
    return true;
  };

  /** Writes it as an image layout, with this as its `index.json`. */
  async write(folder: string, index: object | string): Promise<void> {
    await mkdir(join(folder, 'blobs', 'sha256'), { recursive: true });
    await writeFile(join(folder, 'oci-layout'), '{"imageLayoutVersion":"1.0.0"}');
    await writeFile(join(folder, 'index.json'), typeof index === 'string' ? index : JSON.stringify(index));
    for (const [digest, { bytes }] of this.blobs) {
      await writeFile(join(folder, 'blobs', digest.replace(':', '/')), bytes);
    }
  }
}

/** Answers the requests that match, and no others. */
export function answering(
  matches: (method: string, url: string) => boolean,
  status: number,
  headers: Record<string, string | string[]> = {},
  body: string | Buffer = '',
): Spoil {
  return ({ method = '', url = '' }, response) => {
    if (!matches(method, url)) {
      return false;
    }
    response.writeHead(status, headers).end(method === 'HEAD' ? undefined : body);
    return true;
  };
}

/** Sends the same piece for as long as somebody takes it. */
export function flood(to: Writable, piece: string | Buffer): void {
  const more = (): void => {
    while (!to.destroyed && to.write(piece));
  };
  to.on('drain', more).on('error', () => undefined);
  more();
}

/** The first of several that answers. */
export function either(...spoils: Spoil[]): Spoil {
  return (request, response) => spoils.some((spoil) => spoil(request, response));
}

export const is = {
  all: (): boolean => true,
  reading: (method: string, url: string) => method === 'GET' && url.includes('/manifests/'),
  asking: (method: string, url: string) => method === 'HEAD' && url.includes('/manifests/'),
  resolving: (_: string, url: string) => url.includes('/manifests/'),
  tagging: (method: string, url: string) => method === 'PUT' && /\/manifests\/[^:]+$/.test(url),
  writing: (method: string, url: string) => method === 'PUT' && url.includes('/manifests/'),
  blob: (method: string, url: string) => method === 'GET' && url.includes('/blobs/sha256'),
  askingBlob: (method: string, url: string) => method === 'HEAD' && url.includes('/blobs/'),
  begin: (method: string, url: string) => method === 'POST' && url.includes('/blobs/uploads/'),
  upload: (method: string, url: string) => /^(PATCH|PUT)$/.test(method) && url.includes('/blobs/uploads/'),
  listing: (_: string, url: string) => url.includes('/tags/list'),
};
