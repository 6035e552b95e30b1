import { mkdirSync } from 'node:fs';
import type { IncomingMessage, ServerResponse } from 'node:http';
import { setTimeout as delay } from 'node:timers/promises';
import { answerEmpty, answerJson, serve, type RunningServer } from '../http';
import { authorize } from './access';
import { folderBlobs, memoryBlobs } from './blob-store';
import { handleBlob } from './blobs';
import { openCatalogue } from './catalogue';
import { RegistryContents } from './contents';
import { RegistryError, type Exchange } from './exchange';
import { applyFault } from './faults';
import { ManifestStore } from './manifests';
import type { SandboxRegistryOptions } from './options';
import { handleReferrers } from './referrers';
import { handleCatalogue, handleTagList } from './tags';
import { Uploads } from './uploads';

/**
 * Starts a stand-in registry on loopback that speaks the OCI distribution protocol 1.1: pull, push
 * (in one request or in chunks), mounts, tag lists in pages, referrers and deletion. It refuses a
 * manifest whose content is not there.
 */
export async function startSandboxRegistry(options: SandboxRegistryOptions): Promise<RunningServer> {
  if (options.folder !== undefined) {
    mkdirSync(options.folder, { recursive: true });
  }
  const router = new Router(options);
  return serve(options.port, (request, response) => router.handle(request, response));
}

const routes = /^\/v2\/(.+?)\/(manifests|blobs\/uploads|blobs|tags|referrers)(?:\/([^/]*))?$/;

/** The repository, the kind of thing, and what follows, in the path of a request. */
function matchRoute(url: URL): { name: string; kind: string; rest: string } | undefined {
  const [, name, kind, rest] = routes.exec(url.pathname.replace(/\/uploads\/$/, '/uploads')) ?? [];
  return name === undefined || kind === undefined ? undefined : { name, kind, rest: rest ?? '' };
}

/** The address of a request; undefined for one that is none, such as `//`. */
function urlOf({ url = '/' }: IncomingMessage): URL | undefined {
  return URL.canParse(url, 'http://sandbox') ? new URL(url, 'http://sandbox') : undefined;
}

class Router {
  private readonly contents: RegistryContents;
  private readonly manifests: ManifestStore;
  private readonly uploads: Uploads;

  constructor(private readonly options: SandboxRegistryOptions) {
    const blobs = options.folder === undefined ? memoryBlobs() : folderBlobs(options.folder);
    this.contents = new RegistryContents(openCatalogue(options.folder), blobs, options);
    this.manifests = new ManifestStore(this.contents, options);
    this.uploads = new Uploads(this.contents, options);
  }

  async handle(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const url = urlOf(request);
    if (url === undefined) {
      return answerJson(response, 400, { errors: [{ code: 'UNSUPPORTED', message: 'this is no path' }] });
    }
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
      if (fault?.kind === 'late') {
        await delay(fault.milliseconds);
      }
      const mayMount = await authorize({ request, method, name: matchRoute(url)?.name }, this.options);
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

  private async route({ url, ...rest }: Omit<Exchange, 'query' | 'name' | 'rest'> & { url: URL }): Promise<void> {
    const { response } = rest;
    const made = /^\/sandbox\/repositories\/(.+)$/.exec(url.pathname)?.[1];
    if (made !== undefined && rest.method === 'PUT') {
      this.contents.repositoryForWriting(made);
      this.contents.catalogue.save();
      return answerEmpty(response, 201);
    }
    if (url.pathname === '/v2/' || url.pathname === '/v2') {
      return answerJson(response, 200, {});
    }
    if (url.pathname === '/v2/_catalog') {
      return handleCatalogue(this.contents, { response, query: url.searchParams });
    }
    const route = matchRoute(url);
    if (route === undefined) {
      throw new RegistryError(404, 'NAME_UNKNOWN', 'there is nothing at this path');
    }
    const exchange: Exchange = { ...rest, query: url.searchParams, name: route.name, rest: route.rest };
    switch (route.kind) {
      case 'manifests':
        return this.manifests.handle(exchange);
      case 'blobs':
        return handleBlob(this.contents, exchange);
      case 'blobs/uploads':
        return this.uploads.handle(exchange);
      case 'tags':
        return handleTagList(this.contents, exchange);
      default:
        if (this.options.withoutReferrers === true) {
          throw new RegistryError(404, 'UNSUPPORTED', 'this registry keeps no list of referrers');
        }
        return handleReferrers(this.contents, exchange);
    }
  }
}
