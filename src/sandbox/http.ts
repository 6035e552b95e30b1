import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';

/** A server that is running on loopback. */
export interface RunningServer {
  readonly port: number;
  readonly close: () => Promise<void>;
}

/** Starts a server on loopback; on any free port where `port` is 0. */
export async function serve(
  port: number,
  handle: (request: IncomingMessage, response: ServerResponse) => Promise<void>,
): Promise<RunningServer> {
  const server = createServer((request, response) => void handle(request, response));
  server.requestTimeout = 0;
  // Clients on a busy machine may come back late to a connection that they kept.
  server.keepAliveTimeout = 60_000;
  await new Promise<void>((resolve, reject) => {
    server.once('error', reject);
    server.listen(port, '127.0.0.1', resolve);
  });
  const address: AddressInfo | string | null = server.address();
  return {
    port: typeof address === 'object' && address !== null ? address.port : port,
    close: () =>
      new Promise((resolve) => {
        server.close(() => resolve());
        server.closeAllConnections();
      }),
  };
}

/** Answers without a body. */
export function answerEmpty(response: ServerResponse, status: number, headers: Record<string, string> = {}): void {
  response.writeHead(status, { 'content-length': '0', ...headers });
  response.end();
}

/** Answers with a JSON document. */
export function answerJson(
  response: ServerResponse,
  status: number,
  body: unknown,
  headers: Record<string, string> = {},
): void {
  const text = JSON.stringify(body);
  response.writeHead(status, {
    'content-type': 'application/json',
    'content-length': String(Buffer.byteLength(text)),
    ...headers,
  });
  response.end(text);
}

/** What was posted, as text (at most 1 MiB). */
export async function readText(request: IncomingMessage): Promise<string> {
  let text = '';
  for await (const piece of request.setEncoding('utf8') as AsyncIterable<string>) {
    text += piece;
    if (text.length > 1024 * 1024) {
      break;
    }
  }
  return text;
}
