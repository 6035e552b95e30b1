import { randomUUID, timingSafeEqual } from 'node:crypto';
import { mkdirSync } from 'node:fs';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { Readable } from 'node:stream';
import { pipeline } from 'node:stream/promises';
import { HodError } from '../core/errors';
import { isDigest, sha256, type Digest } from '../core/oci/digest';
import { blobsOf, manifestSizeLimit, parseManifest, type Manifest } from '../core/oci/manifest';
import { mediaTypes } from '../core/oci/media-types';
import { isTag } from '../core/tags/tag';
import { folderBlobs, memoryBlobs, type BlobStore } from './blobs';
import { openCatalogue, type Catalogue, type CatalogueEntry } from './catalogue';
import { applyFault, type Fault, type FaultSource } from './faults';
import { answer, answerJson, serve, type RunningServer } from './http';
import type { TokenService } from './token-service';

/** How a sandbox registry behaves. */
export interface SandboxRegistryOptions {
  /** Keep content here; in memory where it is not given. */
  folder?: string | undefined;
  /** The port on loopback; any free one where it is 0. */
  port: number;
  /** Ask for this login (RFC 7617). */
  login?: { username: string; password: string } | undefined;
  /** Ask for access tokens of this service. */
  tokens?: Pick<TokenService, 'realm' | 'service' | 'verify'> | undefined;
  /** What goes wrong, and when. */
  faults?: FaultSource | undefined;
  /** Repositories must be made (`PUT /sandbox/repositories/NAME`) before the first push. */
  strict?: boolean | undefined;
  /** Tags that may be written once only. */
  immutable?: RegExp | undefined;
  /** Take manifests whose content is not there, as some registries do. */
  trusting?: boolean | undefined;
  /** Told of every request when it has been answered. */
  onRequest?: ((request: LoggedRequest) => void) | undefined;
}

/** A line of the request log. */
export interface LoggedRequest {
  at: string;
  method: string;
  path: string;
  status: number;
  /** Bytes of the body that came in. */
  received: number;
  /** The names of the request's headers: enough to see whether a credential came along, and which is not kept. */
  headers: string[];
}

/** An answer that is an error of the OCI distribution specification ("Error Codes"). */
class RegistryError extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
    readonly headers: Record<string, string> = {},
  ) {
    super(message);
  }
}

interface Exchange {
  readonly request: IncomingMessage;
  readonly response: ServerResponse;
  readonly method: string;
  readonly query: URLSearchParams;
  readonly name: string;
  /** What goes wrong with it. */
  readonly fault: Fault | undefined;
  /** Whether blobs may be mounted from a repository. */
  readonly mayMount: (name: string) => boolean;
  /** The part of the path that follows `manifests/`, `blobs/` and the like. */
  readonly rest: string;
}

/**
 * Starts a stand-in registry on loopback that speaks the OCI distribution protocol 1.1: pull, push
 * (in one request or in chunks), mounts, tag lists in pages, referrers and deletion. It refuses a
 * manifest whose content is not there.
 */
export async function startSandboxRegistry(options: SandboxRegistryOptions): Promise<RunningServer> {
  if (options.folder !== undefined) {
    mkdirSync(options.folder, { recursive: true });
  }
  const handler = new RegistryHandler(
    openCatalogue(options.folder),
    options.folder === undefined ? memoryBlobs() : folderBlobs(options.folder),
    options,
  );
  return serve(options.port, (request, response) => handler.handle(request, response));
}

const routes = /^\/v2\/(.+?)\/(manifests|blobs\/uploads|blobs|tags|referrers)(?:\/([^/]*))?$/;

/** The repository, the kind of thing, and what follows, in the path of a request. */
function matchRoute(url: URL): { name: string; kind: string; rest: string } | undefined {
  const [, name, kind, rest] = routes.exec(url.pathname.replace(/\/uploads\/$/, '/uploads')) ?? [];
  return name === undefined || kind === undefined ? undefined : { name, kind, rest: rest ?? '' };
}

class RegistryHandler {
  constructor(
    private readonly catalogue: Catalogue,
    private readonly blobs: BlobStore,
    private readonly options: SandboxRegistryOptions,
  ) {}

  async handle(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const url = new URL(request.url ?? '/', 'http://sandbox');
    const method = request.method ?? 'GET';
    let received = 0;
    request.on('data', (piece: Buffer) => (received += piece.length));
    request.pause();
    response.once('close', () =>
      this.options.onRequest?.({
        at: new Date().toISOString(),
        method,
        path: url.pathname + url.search,
        status: response.statusCode,
        received,
        headers: Object.keys(request.headers),
      }),
    );
    const fault = this.options.faults?.({ method, path: url.pathname });
    try {
      if (fault !== undefined && !applyFault(fault, request, response)) {
        return;
      }
      const mayMount = await this.checkAccess(request, method, url);
      await this.route({ request, response, method, url, fault, mayMount });
    } catch (error) {
      if (error instanceof RegistryError) {
        answerJson(response, error.status, { errors: [{ code: error.code, message: error.message }] }, error.headers);
      } else if (!response.headersSent) {
        answerJson(response, 500, { errors: [{ code: 'UNKNOWN', message: String(error) }] });
      }
    } finally {
      request.resume();
    }
  }

  /** Throws unless the request bears what this registry asks for. Answers from which repositories it may mount. */
  private async checkAccess(request: IncomingMessage, method: string, url: URL): Promise<(name: string) => boolean> {
    const { login, tokens } = this.options;
    const authorization = request.headers.authorization ?? '';
    if (tokens !== undefined) {
      return this.checkToken(tokens, authorization, method, url);
    }
    if (login !== undefined) {
      const expected = Buffer.from(`Basic ${Buffer.from(`${login.username}:${login.password}`).toString('base64')}`);
      const given = Buffer.from(authorization);
      if (given.length !== expected.length || !timingSafeEqual(given, expected)) {
        const headers = { 'www-authenticate': 'Basic realm="sandbox"' };
        throw new RegistryError(401, 'UNAUTHORIZED', 'a login is needed', headers);
      }
    }
    return () => true;
  }

  private async checkToken(
    { realm, service, verify }: NonNullable<SandboxRegistryOptions['tokens']>,
    authorization: string,
    method: string,
    url: URL,
  ): Promise<(name: string) => boolean> {
    const name = matchRoute(url)?.name;
    const actions = method === 'GET' || method === 'HEAD' ? ['pull'] : ['pull', 'push'];
    const access = await verify(authorization.replace(/^Bearer /, ''));
    const allows = (repository: string, action: string): boolean =>
      access?.some((each) => each.name === repository && each.actions.includes(action)) === true;
    if (access === undefined || (name !== undefined && !actions.every((action) => allows(name, action)))) {
      const scope = name === undefined ? '' : `,scope="repository:${name}:${actions.join(',')}"`;
      const error = access === undefined ? '' : ',error="insufficient_scope"';
      const challenge = `Bearer realm="${realm}",service="${service}"${scope}${error}`;
      throw new RegistryError(401, 'UNAUTHORIZED', 'a token is needed', { 'www-authenticate': challenge });
    }
    return (from) => allows(from, 'pull');
  }

  private async route({ url, ...rest }: Omit<Exchange, 'query' | 'name' | 'rest'> & { url: URL }): Promise<void> {
    const { response } = rest;
    const made = /^\/sandbox\/repositories\/(.+)$/.exec(url.pathname)?.[1];
    if (made !== undefined && rest.method === 'PUT') {
      this.entryForWriting(made);
      this.catalogue.save();
      return answer(response, 201);
    }
    if (url.pathname === '/v2/' || url.pathname === '/v2') {
      return answerJson(response, 200, {});
    }
    const route = matchRoute(url);
    if (route === undefined) {
      throw new RegistryError(404, 'NAME_UNKNOWN', 'there is nothing at this path');
    }
    const exchange: Exchange = { ...rest, query: url.searchParams, name: route.name, rest: route.rest };
    switch (route.kind) {
      case 'manifests':
        return this.manifests(exchange);
      case 'blobs':
        return this.blob(exchange);
      case 'blobs/uploads':
        return this.uploads(exchange);
      case 'tags':
        return this.tagList(exchange);
      default:
        return this.referrers(exchange);
    }
  }

  private entry(name: string): CatalogueEntry {
    const known = this.catalogue.repositories.get(name);
    if (known === undefined) {
      throw new RegistryError(404, 'NAME_UNKNOWN', `there is no repository ${name}`);
    }
    return known;
  }

  private entryForWriting(name: string): CatalogueEntry {
    const entry = this.catalogue.repositories.get(name) ?? { blobs: new Set(), manifests: new Map(), tags: new Map() };
    this.catalogue.repositories.set(name, entry);
    return entry;
  }

  private async manifests(exchange: Exchange): Promise<void> {
    const { method, name, rest, response } = exchange;
    if (method === 'PUT') {
      return this.putManifest(exchange);
    }
    const entry = this.entry(name);
    const digest = isDigest(rest) ? rest : entry.tags.get(rest);
    const mediaType = digest && entry.manifests.get(digest);
    if (digest === undefined || mediaType === undefined) {
      throw new RegistryError(404, 'MANIFEST_UNKNOWN', `there is no manifest ${rest}`);
    }
    if (method === 'DELETE') {
      if (isDigest(rest)) {
        entry.manifests.delete(digest);
        [...entry.tags].filter(([, target]) => target === digest).forEach(([tag]) => entry.tags.delete(tag));
      } else {
        entry.tags.delete(rest);
      }
      this.catalogue.save();
      return answer(response, 202);
    }
    await this.sendBlob(exchange, digest, { 'content-type': mediaType });
  }

  private async putManifest({ request, response, name, rest }: Exchange): Promise<void> {
    if (!isDigest(rest) && !isTag(rest)) {
      throw new RegistryError(400, 'TAG_INVALID', `${rest} is neither a tag nor a digest`);
    }
    const bytes = await readAll(request, manifestSizeLimit);
    const digest = isDigest(rest) ? rest : sha256(bytes);
    if (this.options.strict === true) {
      this.entry(name);
    }
    const manifest = parsePushed(bytes, digest, request.headers['content-type']);
    const entry = this.entryForWriting(name);
    if (this.options.trusting !== true) {
      await this.requireContent(manifest, entry);
    }
    const before = isDigest(rest) ? undefined : entry.tags.get(rest);
    if (before !== undefined && before !== digest && this.options.immutable?.test(rest) === true) {
      throw new RegistryError(409, 'DENIED', `the tag ${rest} is immutable`);
    }
    const upload = randomUUID();
    await this.blobs.append(upload, Readable.from([bytes]));
    await this.blobs.finish(upload, digest);
    entry.manifests.set(digest, manifest.mediaType);
    if (!isDigest(rest)) {
      entry.tags.set(rest, digest);
    }
    this.catalogue.save();
    answer(response, 201, {
      location: `/v2/${name}/manifests/${digest}`,
      'docker-content-digest': digest,
      ...(manifest.subject === undefined ? {} : { 'oci-subject': manifest.subject.digest }),
    });
  }

  private async requireContent(manifest: Manifest, entry: CatalogueEntry): Promise<void> {
    if (manifest.kind === 'index') {
      const missing = manifest.manifests.find(({ digest }) => !entry.manifests.has(digest));
      if (missing !== undefined) {
        throw new RegistryError(404, 'MANIFEST_BLOB_UNKNOWN', `there is no manifest ${missing.digest}`);
      }
      return;
    }
    for (const { digest } of blobsOf(manifest)) {
      if (!entry.blobs.has(digest) || (await this.blobs.size(digest)) === undefined) {
        throw new RegistryError(404, 'MANIFEST_BLOB_UNKNOWN', `there is no blob ${digest}`);
      }
    }
  }

  private async blob(exchange: Exchange): Promise<void> {
    const { method, name, rest, response } = exchange;
    const entry = this.entry(name);
    if (!isDigest(rest) || !entry.blobs.has(rest)) {
      throw new RegistryError(404, 'BLOB_UNKNOWN', `there is no blob ${rest}`);
    }
    if (method === 'DELETE') {
      entry.blobs.delete(rest);
      const used = [...this.catalogue.repositories.values()].some(({ blobs }) => blobs.has(rest));
      if (!used) {
        await this.blobs.remove(rest);
      }
      this.catalogue.save();
      return answer(response, 202);
    }
    await this.sendBlob(exchange, rest, { 'content-type': 'application/octet-stream' });
  }

  private async sendBlob(exchange: Exchange, digest: Digest, headers: Record<string, string>): Promise<void> {
    const { request, response, method } = exchange;
    const size = await this.blobs.size(digest);
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
    await pipeline(this.blobs.read(digest, start, end), response).catch(() => response.destroy());
  }

  private async uploads(exchange: Exchange): Promise<void> {
    if (exchange.method === 'POST') {
      return this.beginUpload(exchange);
    }
    // A client that lost its connection asks how far it got while its last bytes are still being taken in.
    return this.alone(exchange.rest, () => this.goOn(exchange));
  }

  private readonly busy = new Map<string, Promise<void>>();

  /** Does work on an upload after whatever else is being done to it. */
  private async alone(upload: string, work: () => Promise<void>): Promise<void> {
    const turn = (this.busy.get(upload) ?? Promise.resolve()).then(work);
    const quiet = turn.catch(() => undefined);
    this.busy.set(upload, quiet);
    await quiet;
    if (this.busy.get(upload) === quiet) {
      this.busy.delete(upload);
    }
    return turn;
  }

  private async goOn(exchange: Exchange): Promise<void> {
    const { request, response, method, name, rest, query } = exchange;
    const location = `/v2/${name}/blobs/uploads/${rest}`;
    if (method === 'DELETE') {
      await this.blobs.drop(rest);
      this.uploadLengths.delete(rest);
      return answer(response, 204);
    }
    if (exchange.fault?.kind === 'expired-upload') {
      this.uploadLengths.delete(rest);
    }
    const length = this.uploadLengths.get(rest);
    if (length === undefined) {
      throw new RegistryError(404, 'BLOB_UPLOAD_UNKNOWN', 'there is no such upload');
    }
    if (method === 'GET') {
      return answer(response, 204, { location, range: rangeOf(length), 'docker-upload-uuid': rest });
    }
    if (method !== 'PATCH' && method !== 'PUT') {
      throw new RegistryError(405, 'UNSUPPORTED', `${method} is not possible here`);
    }
    const contentRange = /^(\d+)-\d+$/.exec(request.headers['content-range'] ?? '');
    if (contentRange !== null && Number(contentRange[1]) !== length) {
      throw new RegistryError(416, 'BLOB_UPLOAD_INVALID', `the next byte is ${length}`, {
        location,
        range: rangeOf(length),
      });
    }
    const now = await this.receive(rest, request);
    if (method === 'PATCH') {
      return answer(response, 202, { location, range: rangeOf(now), 'docker-upload-uuid': rest });
    }
    await this.finishUpload(exchange, rest, query.get('digest'));
  }

  /** How many bytes of each unfinished upload have arrived. */
  private readonly uploadLengths = new Map<string, number>();

  private async beginUpload(exchange: Exchange): Promise<void> {
    const { request, response, name, query } = exchange;
    if (this.options.strict === true) {
      this.entry(name);
    }
    const mount = query.get('mount');
    if (mount !== null && isDigest(mount) && exchange.fault?.kind !== 'no-mount') {
      const source = query.get('from') ?? '';
      const from = exchange.mayMount(source) ? this.catalogue.repositories.get(source) : undefined;
      if (from?.blobs.has(mount) === true) {
        this.entryForWriting(name).blobs.add(mount);
        this.catalogue.save();
        return answer(response, 201, { location: `/v2/${name}/blobs/${mount}`, 'docker-content-digest': mount });
      }
    }
    const upload = randomUUID();
    await this.receive(upload, request);
    if (query.has('digest')) {
      return this.finishUpload(exchange, upload, query.get('digest'));
    }
    answer(response, 202, {
      location: `/v2/${name}/blobs/uploads/${upload}`,
      range: '0-0',
      'docker-upload-uuid': upload,
    });
  }

  /** Takes in what arrives of an upload, and keeps count of it also where the connection breaks. */
  private async receive(upload: string, request: IncomingMessage): Promise<number> {
    try {
      await this.blobs.append(upload, request);
    } finally {
      this.uploadLengths.set(upload, await this.blobs.length(upload));
    }
    return this.uploadLengths.get(upload) ?? 0;
  }

  private async finishUpload({ response, name }: Exchange, upload: string, digest: string | null): Promise<void> {
    if (digest === null || !isDigest(digest)) {
      throw new RegistryError(400, 'DIGEST_INVALID', 'the digest is missing or malformed');
    }
    this.uploadLengths.delete(upload);
    if (!(await this.blobs.finish(upload, digest))) {
      throw new RegistryError(400, 'DIGEST_INVALID', `the bytes do not have the digest ${digest}`);
    }
    this.entryForWriting(name).blobs.add(digest);
    this.catalogue.save();
    answer(response, 201, { location: `/v2/${name}/blobs/${digest}`, 'docker-content-digest': digest });
  }

  private tagList({ response, name, query }: Exchange): void {
    const all = [...this.entry(name).tags.keys()].sort();
    const last = query.get('last');
    const after = last === null ? all : all.filter((tag) => tag > last);
    const count = query.has('n') ? Number(query.get('n')) : after.length;
    const page = after.slice(0, count);
    const more = page.length < after.length && page.length > 0;
    const next = `/v2/${name}/tags/list?n=${count}&last=${encodeURIComponent(page.at(-1) ?? '')}`;
    answerJson(response, 200, { name, tags: page }, more ? { link: `<${next}>; rel="next"` } : {});
  }

  private async referrers({ response, name, rest, query }: Exchange): Promise<void> {
    if (!isDigest(rest)) {
      throw new RegistryError(400, 'DIGEST_INVALID', 'referrers are asked for by digest');
    }
    const wanted = query.get('artifactType');
    const found = [];
    for (const [digest, mediaType] of this.catalogue.repositories.get(name)?.manifests ?? []) {
      const size = (await this.blobs.size(digest)) ?? 0;
      const bytes = await readAll(this.blobs.read(digest, 0, Math.max(size - 1, 0)), manifestSizeLimit);
      const manifest = parseManifest(bytes, { from: digest, mediaType, digest });
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
}

function parsePushed(bytes: Uint8Array, digest: Digest, contentType: string | undefined): Manifest {
  try {
    return parseManifest(bytes, { from: 'the request', mediaType: contentType, digest });
  } catch (error) {
    if (error instanceof HodError) {
      throw new RegistryError(400, 'MANIFEST_INVALID', error.message);
    }
    throw error;
  }
}

async function readAll(stream: Readable, limit: number): Promise<Buffer> {
  const pieces: Buffer[] = [];
  let size = 0;
  for await (const piece of stream as AsyncIterable<Buffer>) {
    size += piece.length;
    if (size > limit) {
      throw new RegistryError(413, 'SIZE_INVALID', `more than ${limit} bytes`);
    }
    pieces.push(piece);
  }
  return Buffer.concat(pieces);
}

function rangeOf(length: number): string {
  return `0-${Math.max(length - 1, 0)}`;
}
