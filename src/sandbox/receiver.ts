import { createHmac, randomUUID, timingSafeEqual } from 'node:crypto';
import { answerEmpty, answerJson, serve, type RunningServer } from './http';

/** Something that was announced, and whether its signature is right. */
export interface Received {
  readonly event: { readonly type?: unknown; readonly subject?: unknown; readonly sequence?: unknown };
  readonly signed: boolean;
}

/** A receiver of announcements that is running. */
export interface SandboxReceiver extends RunningServer {
  /** What announcements are to be signed with. */
  readonly key: string;
}

/** So many are kept, and so many bytes of one are read. */
const [kept, largest] = [1_000, 4 * 1024 * 1024];

/** Starts a receiver: it takes announcements by POST, and shows what came to whoever asks by GET. */
export async function startReceiver(port: number, told: (received: Received) => void): Promise<SandboxReceiver> {
  const key = randomUUID();
  const all: Received[] = [];
  const server = await serve(port, async (request, response) => {
    if (request.method !== 'POST') {
      return answerJson(response, 200, all);
    }
    const pieces: Buffer[] = [];
    let length = 0;
    for await (const piece of request as AsyncIterable<Buffer>) {
      length += piece.length;
      if (length > largest) {
        return answerEmpty(response, 413);
      }
      pieces.push(piece);
    }
    const body = Buffer.concat(pieces);
    const expected = createHmac('sha256', key).update(body).digest();
    const given = Buffer.from(String(request.headers['hod-body-hmac'] ?? ''), 'hex');
    const signed = given.length === expected.length && timingSafeEqual(given, expected);
    const received: Received = { event: eventIn(body), signed };
    all.push(received);
    all.splice(0, Math.max(0, all.length - kept));
    told(received);
    answerEmpty(response, signed ? 204 : 403);
  });
  return { ...server, key };
}

function eventIn(body: Buffer): Received['event'] {
  try {
    const value: unknown = JSON.parse(body.toString('utf8'));
    return typeof value === 'object' && value !== null ? value : {};
  } catch {
    return {};
  }
}
