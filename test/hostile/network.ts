import { once } from 'node:events';
import {
  createServer,
  type IncomingHttpHeaders,
  type IncomingMessage,
  type Server,
  type ServerResponse,
} from 'node:http';
import { createServer as createTcpServer, type AddressInfo } from 'node:net';
import type { Duplex } from 'node:stream';
import { createSecureContext, TLSSocket, type SecureContext } from 'node:tls';
import { passOn } from '../support/pass-on';

/** A request as it arrived somewhere. */
export interface Arrived {
  readonly host: string;
  readonly secure: boolean;
  readonly method: string;
  readonly url: string;
  /** Head and body, to be searched. */
  text: string;
  status: number;
}

/** Answers a request, or answers false where the real registry is to. */
export type Spoil = (request: IncomingMessage, response: ServerResponse) => boolean;
/** Changes the headers that the real registry answers with. */
export type Change = (headers: IncomingHttpHeaders) => IncomingHttpHeaders;
/** Speaks on a connection as it likes, once something was asked there. */
export type Speak = (socket: Duplex) => void;

/** The certificate that every host of the network shows. */
export interface Identity {
  readonly key: string;
  readonly cert: string;
}

const kept = 1024 * 1024;

/**
 * A network of made-up hosts behind a proxy: what the program under test reaches through HTTPS_PROXY
 * and HTTP_PROXY. Keeps every request, and whom somebody wanted to connect to.
 */
export class Network {
  readonly arrived: Arrived[] = [];
  readonly connects: string[] = [];
  /** Connections to a service on this machine that nobody has any business with. */
  trapped = 0;
  /** What the proxy answers whoever wants to connect, where it refuses; nothing at all where it is empty. */
  refusal: string | undefined;
  private readonly spoils = new Map<string, Spoil>();
  private readonly changes = new Map<string, Change>();
  private readonly speakers = new Map<string, Speak>();
  private readonly origins = new WeakMap<Duplex, { host: string; secure: boolean }>();
  private readonly sockets = new Set<Duplex>();
  private readonly context: SecureContext;
  private readonly inner = createServer((request, response) => this.serve(request, response));
  private readonly proxy = createServer((request, response) => this.serve(request, response));
  private readonly trap = createTcpServer((socket) => {
    this.trapped += 1;
    socket.on('error', () => undefined).end('HTTP/1.1 200 OK\r\ncontent-length: 2\r\n\r\n{}');
  });

  /** @param registry The port of the registry that answers where nobody spoils it. */
  constructor(
    identity: Identity,
    private readonly registry: number,
  ) {
    this.context = createSecureContext(identity);
    this.proxy.on('connect', (request: IncomingMessage, socket: Duplex) => this.connect(request.url ?? '', socket));
    for (const server of [this.inner, this.proxy]) {
      server.keepAliveTimeout = 60_000;
    }
  }

  async start(): Promise<void> {
    await Promise.all([listening(this.proxy), listening(this.trap)]);
  }

  get port(): number {
    return portOf(this.proxy);
  }

  get trapPort(): number {
    return portOf(this.trap);
  }

  /** Lets a host answer as it likes. */
  at(host: string, spoil: Spoil): void {
    this.spoils.set(host, spoil);
  }

  /** Lets a host answer as the real registry does, with other headers. */
  rewrites(host: string, change: Change): void {
    this.changes.set(host, change);
  }

  /** Lets a host say whatever it likes, HTTP or not. */
  speaks(host: string, speak: Speak): void {
    this.speakers.set(host, speak);
  }

  close(): void {
    this.sockets.forEach((socket) => socket.destroy());
    [this.proxy, this.trap].forEach((server) => server.close());
  }

  private connect(authority: string, socket: Duplex): void {
    this.connects.push(authority);
    this.sockets.add(socket.on('error', () => undefined));
    const [host = '', port] = authority.split(':');
    const refusal = this.refusal ?? (/(^|\.)test$/.test(host) ? undefined : '502 Bad Gateway');
    if (refusal === '') {
      return;
    }
    if (refusal !== undefined) {
      socket.end(`HTTP/1.1 ${refusal}\r\n\r\n`);
      return;
    }
    socket.write('HTTP/1.1 200 Connection established\r\n\r\n');
    const secure = port === '443';
    const line = secure ? new TLSSocket(socket, { isServer: true, secureContext: this.context }) : socket;
    line.on('error', () => undefined);
    this.origins.set(line, { host, secure });
    const speak = this.speakers.get(host);
    if (speak === undefined) {
      this.inner.emit('connection', line);
    } else {
      line.once('data', () => speak(line));
    }
  }

  private serve(request: IncomingMessage, response: ServerResponse): void {
    const { method = '', url = '' } = request;
    const origin = this.origins.get(request.socket) ?? { host: new URL(url, 'http://proxy').hostname, secure: false };
    const arrived: Arrived = { ...origin, method, url, status: 0, text: `${url}\n${request.rawHeaders.join('\n')}\n` };
    this.arrived.push(arrived);
    request.on('data', (piece: Buffer) => {
      if (arrived.text.length < kept) {
        arrived.text += piece.toString('latin1');
      }
    });
    response.on('finish', () => (arrived.status = response.statusCode)).on('error', () => undefined);
    if (this.spoils.get(origin.host)?.(request, response) !== true) {
      passOn(this.registry, request, response, this.changes.get(origin.host));
    }
  }
}

async function listening(server: Server | ReturnType<typeof createTcpServer>): Promise<void> {
  server.listen(0, '127.0.0.1');
  await once(server, 'listening');
}

function portOf(server: { address(): unknown }): number {
  return (server.address() as AddressInfo).port;
}
