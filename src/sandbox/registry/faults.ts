import type { IncomingMessage, ServerResponse } from 'node:http';

/** Something that goes wrong with one request. */
export type InjectedFault =
  /** It is answered with this status, and nothing is done. */
  | { kind: 'status'; status: 429 | 500 | 502 | 503; retryAfter?: number }
  /** The connection is cut when so many bytes of its body have arrived. */
  | { kind: 'reset-request'; after: number }
  /** The connection is cut when so many bytes of the answer's body have been sent. */
  | { kind: 'reset-answer'; after: number }
  /** One bit of the answer's body is another one. */
  | { kind: 'corrupt-answer' }
  /** It is never answered. */
  | { kind: 'stall' }
  /** It is looked at only after so many milliseconds, whether anybody still waits or not. */
  | { kind: 'late'; milliseconds: number }
  /** It is done, and the connection is cut before the answer. */
  | { kind: 'lost-answer' }
  /** The upload that it goes on with is forgotten first. */
  | { kind: 'expired-upload' }
  /** A mount becomes an upload. */
  | { kind: 'no-mount' };

/** Decides what goes wrong with a request; nothing where it answers undefined. */
export type FaultSource = (request: { method: string; path: string }) => InjectedFault | undefined;

/** Faults at random, the same for the same seed: about one request in `every` goes wrong. */
export function seededFaults(seed: number, every = 10): FaultSource {
  const random = randomNumbers(seed);
  const kinds: Exclude<InjectedFault['kind'], 'late'>[] = [
    'status',
    'reset-request',
    'reset-answer',
    'corrupt-answer',
    'lost-answer',
    'expired-upload',
    'no-mount',
  ];
  return () => {
    if (random() * every >= 1) {
      return undefined;
    }
    const after = Math.floor(2 ** (random() * 18));
    const kind = kinds[Math.floor(random() * kinds.length)] ?? 'status';
    return kind === 'status'
      ? { kind, status: 503 }
      : kind === 'reset-request' || kind === 'reset-answer'
        ? { kind, after }
        : { kind };
  };
}

/**
 * Makes a fault happen to an exchange as far as it concerns the connection. Answers false where the
 * request is not to be looked at any further.
 */
export function applyFault(fault: InjectedFault, request: IncomingMessage, response: ServerResponse): boolean {
  switch (fault.kind) {
    case 'status':
      response.writeHead(fault.status, {
        'content-length': '0',
        ...(fault.retryAfter === undefined ? {} : { 'retry-after': String(fault.retryAfter) }),
      });
      response.end();
      return false;
    case 'stall':
      return false;
    case 'reset-request': {
      let received = 0;
      request.on('data', (piece: Buffer) => {
        received += piece.length;
        if (received >= fault.after) {
          request.socket.destroy();
        }
      });
      request.pause();
      return true;
    }
    case 'lost-answer':
      response.writeHead = () => {
        request.socket.destroy();
        return response;
      };
      return true;
    case 'reset-answer':
    case 'corrupt-answer':
      spoilBody(fault, request, response);
      return true;
    default:
      return true;
  }
}

function spoilBody(
  fault: Extract<InjectedFault, { kind: 'reset-answer' | 'corrupt-answer' }>,
  request: IncomingMessage,
  response: ServerResponse,
): void {
  const write = response.write.bind(response) as (bytes: Buffer) => boolean;
  const end = response.end.bind(response) as () => ServerResponse;
  let sent = 0;
  const pass = (chunk: unknown): boolean => {
    let bytes = Buffer.isBuffer(chunk) ? Buffer.from(chunk) : Buffer.from(String(chunk));
    if (fault.kind === 'corrupt-answer' && sent === 0 && bytes.length > 0) {
      bytes[0] = (bytes[0] ?? 0) ^ 1;
    }
    if (fault.kind === 'reset-answer') {
      bytes = bytes.subarray(0, Math.max(0, fault.after - sent));
    }
    sent += bytes.length;
    const more = write(bytes);
    if (fault.kind === 'reset-answer' && sent >= fault.after) {
      // What was written is to arrive before the cut.
      setImmediate(() => request.socket.destroy());
    }
    return more;
  };
  response.write = ((chunk: unknown, ...rest: unknown[]) => {
    const done = rest.find((each) => typeof each === 'function');
    const more = pass(chunk);
    if (done !== undefined) {
      setImmediate(() => (done as () => void)());
    }
    return more;
  }) as ServerResponse['write'];
  response.end = ((chunk?: unknown) => {
    if (chunk !== undefined && chunk !== null && typeof chunk !== 'function') {
      pass(chunk);
    }
    return end();
  }) as ServerResponse['end'];
}

/** Numbers from 0 to 1, the same for the same seed (a 32-bit linear congruential generator, mixed). */
function randomNumbers(seed: number): () => number {
  let state = seed >>> 0;
  return () => {
    state = (Math.imul(state, 1_664_525) + 1_013_904_223) >>> 0;
    const mixed = Math.imul(state ^ (state >>> 15), 0x2c1b3c6d) >>> 0;
    return ((mixed ^ (mixed >>> 13)) >>> 0) / 2 ** 32;
  };
}
