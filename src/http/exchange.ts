import type { Dispatcher } from 'undici';
import type { Scope } from '../core/access/challenge';
import { resolveAddress } from '../core/access/destinations';
import { HodError } from '../core/errors';

/** One request to a registry. */
export interface RegistryRequest {
  method: 'GET' | 'HEAD' | 'POST' | 'PUT' | 'PATCH' | 'DELETE';
  /** A path (`/v2/…`), or the absolute URL that a registry answered with. */
  target: string;
  headers?: Readonly<Record<string, string>>;
  /** Makes the body, anew each time the request is sent. */
  body?: () => Dispatcher.DispatchOptions['body'];
  /** How many bytes move, of the request or of the answer, where that is content and may take its time. */
  bulk?: number;
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
export interface RegistryResponse extends Pick<Dispatcher.ResponseData, 'statusCode' | 'headers' | 'body'> {
  /** The address that answered: that of the request, or the last one that it was redirected to. */
  readonly url: URL;
}

/** An answer with its body read. */
export interface FetchedResponse extends Pick<RegistryResponse, 'statusCode' | 'headers' | 'url'> {
  body: Uint8Array;
}

/** What a request is about, for messages. */
export type About = Pick<RegistryRequest, 'purpose' | 'object'>;

/** What to do about an answer that no registry should give. */
export const lookIntoLog = 'check the log of the registry and of any proxy in front of it';

/** The address in a header of an answer. Throws `answer-unexpected` for one that is none. */
export function addressIn(text: string, { url }: Pick<RegistryResponse, 'url'>, about: About): URL {
  const address = resolveAddress(text, url);
  if (address === undefined) {
    throw new HodError('answer-unexpected', {
      what: about.purpose,
      object: about.object,
      why: `${url.host} answers with an address that is none: ${text.slice(0, 200)}`,
      next: lookIntoLog,
    });
  }
  return address;
}

/** The address in `Location`, against that of the request (RFC 9110 §10.2.2); undefined where there is none. */
export function locationOf(response: Pick<RegistryResponse, 'headers' | 'url'>, about: About): URL | undefined {
  const text = response.headers['location'];
  return typeof text === 'string' ? addressIn(text, response, about) : undefined;
}
