import type { IncomingMessage, ServerResponse } from 'node:http';
import type { Readable } from 'node:stream';
import { atMost } from '../../core/bytes';
import type { InjectedFault } from './faults';

/** An answer that is an error of the OCI distribution specification ("Error Codes"). */
export class RegistryError extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
    readonly headers: Record<string, string> = {},
  ) {
    super(message);
  }
}

/** One request, as far as it was understood, and its answer. */
export interface Exchange {
  readonly request: IncomingMessage;
  readonly response: ServerResponse;
  readonly method: string;
  readonly query: URLSearchParams;
  readonly name: string;
  /** What goes wrong with it. */
  readonly fault: InjectedFault | undefined;
  /** Whether blobs may be mounted from a repository. */
  readonly mayMount: (name: string) => boolean;
  /** The part of the path that follows `manifests/`, `blobs/` and the like. */
  readonly rest: string;
}

/** The whole body of a request, or of something that is kept. */
export async function readAll(stream: Readable, limit: number): Promise<Uint8Array> {
  const bytes = await atMost(limit, stream);
  if (bytes === undefined) {
    throw new RegistryError(413, 'SIZE_INVALID', `more than ${limit} bytes`);
  }
  return bytes;
}
