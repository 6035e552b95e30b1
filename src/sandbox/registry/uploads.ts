import { randomUUID } from 'node:crypto';
import type { IncomingMessage } from 'node:http';
import { isDigest } from '../../core/oci/digest';
import { answerEmpty } from '../http';
import type { RegistryContents } from './contents';
import { RegistryError, type Exchange } from './exchange';

/** Uploads of blobs: in one request, in chunks, or by mounting. */
export class Uploads {
  /** How many bytes of each unfinished upload have arrived. */
  private readonly lengths = new Map<string, number>();
  private readonly busy = new Map<string, Promise<void>>();

  constructor(
    private readonly contents: RegistryContents,
    /** `trusting`: blobs need not be what their digest says. */
    private readonly options: { readonly trusting?: boolean | undefined },
  ) {}

  async handle(exchange: Exchange): Promise<void> {
    if (exchange.method === 'POST') {
      return this.beginUpload(exchange);
    }
    // A client that lost its connection asks how far it got while its last bytes are still being taken in.
    return this.alone(exchange.rest, () => this.goOn(exchange));
  }

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
      await this.contents.blobs.drop(rest);
      this.lengths.delete(rest);
      return answerEmpty(response, 204);
    }
    if (exchange.fault?.kind === 'expired-upload') {
      this.lengths.delete(rest);
    }
    const length = this.lengths.get(rest);
    if (length === undefined) {
      throw new RegistryError(404, 'BLOB_UPLOAD_UNKNOWN', 'there is no such upload');
    }
    if (method === 'GET') {
      return answerEmpty(response, 204, { location, range: rangeOf(length), 'docker-upload-uuid': rest });
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
      return answerEmpty(response, 202, { location, range: rangeOf(now), 'docker-upload-uuid': rest });
    }
    await this.finishUpload(exchange, rest, query.get('digest'));
  }

  private async beginUpload(exchange: Exchange): Promise<void> {
    const { request, response, name, query } = exchange;
    this.contents.requireRepository(name);
    const mount = query.get('mount');
    if (mount !== null && isDigest(mount) && exchange.fault?.kind !== 'no-mount') {
      const source = query.get('from') ?? '';
      const from = exchange.mayMount(source) ? this.contents.catalogue.repositories.get(source) : undefined;
      if (from?.blobs.has(mount) === true) {
        this.contents.repositoryForWriting(name).blobs.add(mount);
        this.contents.catalogue.save();
        return answerEmpty(response, 201, { location: `/v2/${name}/blobs/${mount}`, 'docker-content-digest': mount });
      }
    }
    const upload = randomUUID();
    await this.receive(upload, request);
    if (query.has('digest')) {
      return this.finishUpload(exchange, upload, query.get('digest'));
    }
    answerEmpty(response, 202, {
      location: `/v2/${name}/blobs/uploads/${upload}`,
      range: '0-0',
      'docker-upload-uuid': upload,
    });
  }

  /** Takes in what arrives of an upload, and keeps count of it also where the connection breaks. */
  private async receive(upload: string, request: IncomingMessage): Promise<number> {
    try {
      await this.contents.blobs.append(upload, request);
    } finally {
      this.lengths.set(upload, await this.contents.blobs.length(upload));
    }
    return this.lengths.get(upload) ?? 0;
  }

  private async finishUpload({ response, name }: Exchange, upload: string, digest: string | null): Promise<void> {
    if (digest === null || !isDigest(digest)) {
      throw new RegistryError(400, 'DIGEST_INVALID', 'the digest is missing or malformed');
    }
    this.lengths.delete(upload);
    if (!(await this.contents.blobs.finish(upload, digest, this.options.trusting !== true))) {
      throw new RegistryError(400, 'DIGEST_INVALID', `the bytes do not have the digest ${digest}`);
    }
    this.contents.repositoryForWriting(name).blobs.add(digest);
    this.contents.catalogue.save();
    answerEmpty(response, 201, { location: `/v2/${name}/blobs/${digest}`, 'docker-content-digest': digest });
  }
}

function rangeOf(length: number): string {
  return `0-${Math.max(length - 1, 0)}`;
}
