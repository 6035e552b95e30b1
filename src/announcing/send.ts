import { createHmac } from 'node:crypto';
import { whyExposed } from '../core/access/destinations';
import { atMost } from '../core/bytes';
import { signatureHeader, type CloudEvent } from '../core/ledger/announcements';
import type { Wires } from '../http/wires';
import type { ReceiverConfig } from '../workspace/config';

/** The most of an answer that is read: nothing of it matters. */
const answerLimit = 64 * 1024;

/** Sends one event (CloudEvents HTTP protocol binding, "Structured Content Mode"). Returns why the receiver did not take it; undefined where it did. */
export async function sendEvent(
  event: CloudEvent,
  { name, url }: ReceiverConfig,
  key: string,
  wires: Wires,
): Promise<string | undefined> {
  const body = JSON.stringify(event);
  const exposed = whyExposed(url);
  if (exposed !== undefined) {
    return exposed;
  }
  const about = { purpose: 'could not announce', object: name };
  const headers = {
    'content-type': 'application/cloudevents+json; charset=utf-8',
    [signatureHeader]: createHmac('sha256', key).update(body).digest('hex'),
  };
  const response = await wires.own(url, undefined).send({ url, method: 'POST', headers, body }, about);
  await atMost(answerLimit, response.body);
  const { statusCode } = response;
  return statusCode >= 200 && statusCode < 300 ? undefined : `${url.host} answered ${statusCode}`;
}
