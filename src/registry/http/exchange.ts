import type { Dispatcher } from 'undici';
import type { Scope } from '../../core/access/challenge';

/** One request to a registry. */
export interface RegistryRequest {
  method: 'GET' | 'HEAD' | 'POST' | 'PUT' | 'PATCH' | 'DELETE';
  /** A path (`/v2/…`), or the absolute URL that a registry answered with. */
  target: string;
  headers?: Record<string, string>;
  /** Makes the body, anew each time the request is sent. */
  body?: () => Dispatcher.DispatchOptions['body'];
  /** What the request needs of which repositories. */
  scopes: readonly Scope[];
  /** The statuses that are an answer; any other is an error. */
  expect: readonly number[];
  /** What the request is for, for messages: `could not read …`. */
  purpose: string;
  /** The object of the request, for messages. */
  object: string;
}

/** The answer to a request. The body must be read to its end, or dumped. */
export type RegistryResponse = Dispatcher.ResponseData;

/** An answer with its body read. */
export interface FetchedResponse {
  statusCode: number;
  headers: RegistryResponse['headers'];
  body: Uint8Array;
}

/** What a request is about, for messages. */
export type About = Pick<RegistryRequest, 'purpose' | 'object'>;
