// A registry seen from afar: a proxy that delays every byte by half a round trip in each direction, with TLS in
// front of what it leads to where it is given a certificate. Counts connections and requests.
// Runs as a program of its own: node distance.mjs '{"target":5000,"milliseconds":20,"tls":{"key":…,"cert":…}}'
import { once } from 'node:events';
import { connect, createServer } from 'node:net';
import { createServer as createTlsServer } from 'node:tls';

const { target, milliseconds, tls } = JSON.parse(process.argv[2]);
const counts = { connections: 0, requests: 0 };

/** Passes on what arrives, in order, each piece after so long. */
function delayed(from, to, after) {
  from.on('data', (piece) => setTimeout(() => to.writable && to.write(piece), after));
  from.on('end', () => setTimeout(() => to.end(), after));
  from.on('error', () => to.destroy());
  from.on('close', () => setTimeout(() => to.destroy(), after + 5));
}

/** Passes on, and counts the heads of requests. */
function counted(from, to) {
  const heads = /(?:^|\n)(?:GET|HEAD|POST|PUT|PATCH|DELETE) \S+ HTTP\/1\.1\r\n/g;
  from.on('data', (piece) => (counts.requests += piece.toString('latin1').match(heads)?.length ?? 0));
  from.pipe(to);
  to.pipe(from);
  [from, to].forEach((socket, at, both) => socket.on('error', () => both[1 - at].destroy()));
}

const onward = (socket) => counted(socket, connect({ port: target, host: '127.0.0.1', noDelay: true }));
const near = tls === undefined ? createServer(onward) : createTlsServer({ ...tls, noDelay: true }, onward);
near.listen(0, '127.0.0.1');
await once(near, 'listening');

const far = createServer({ noDelay: true }, (socket) => {
  counts.connections += 1;
  const inner = connect({ port: near.address().port, host: '127.0.0.1', noDelay: true });
  socket.pause();
  // Opening a connection is a round trip of its own.
  setTimeout(() => socket.resume(), milliseconds);
  delayed(socket, inner, milliseconds / 2);
  delayed(inner, socket, milliseconds / 2);
});
far.listen(0, '127.0.0.1');
await once(far, 'listening');

process.send(far.address().port);
process.on('message', () => {
  process.send({ ...counts });
  Object.assign(counts, { connections: 0, requests: 0 });
});
process.on('disconnect', () => process.exit());
