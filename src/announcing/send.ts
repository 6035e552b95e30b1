import { createHmac } from 'node:crypto';
import { whyExposed } from '../core/access/destinations';
import { atMost } from '../core/bytes';
import { fillBody, type BodyTemplate } from '../core/ledger/announcement-body';
import { signatureHeader, type CloudEvent } from '../core/ledger/announcements';
import type { Wires } from '../http/wires';

/** The most of an answer that is read: nothing of it matters. */
const answerLimit = 64 * 1024;

/** A receiver, with its secrets read. */
export interface Receiver {
  readonly name: string;
  readonly url: URL;
  /** What its announcements are signed with; undefined where they are not. */
  readonly key: string | undefined;
  /** What is sent instead of a CloudEvent. */
  readonly body: BodyTemplate | undefined;
}

/**
 * Sends one event: in the body that the receiver asks for, else as a CloudEvent (CloudEvents HTTP protocol binding, "Structured
 * Content Mode"). Returns why the receiver did not take it; undefined where it did.
 */
export async function sendEvent(
  event: CloudEvent,
  { name, url, key, body: template }: Receiver,
  wires: Wires,
): Promise<string | undefined> {
  const { text: body, mediaType } =
    template === undefined
      ? { text: JSON.stringify(event), mediaType: 'application/cloudevents+json; charset=utf-8' }
      : fillBody(template, event);
  const exposed = whyExposed(url);
  if (exposed !== undefined) {
    return exposed;
  }
  const about = { purpose: 'could not announce', object: name };
  const headers = {
    'content-type': mediaType,
    ...(key === undefined ? {} : { [signatureHeader]: createHmac('sha256', key).update(body).digest('hex') }),
  };
  const response = await wires.own(url, undefined).send({ url, method: 'POST', headers, body }, about);
  await atMost(answerLimit, response.body);
  const { statusCode } = response;
  return statusCode >= 200 && statusCode < 300 ? undefined : `${url.host} answered ${statusCode}`;
}
