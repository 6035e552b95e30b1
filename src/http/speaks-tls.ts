import { once } from 'node:events';
import { connect, isIP } from 'node:net';

/** How long a server on this machine may take to answer the first message of TLS, in milliseconds. */
const patience = 1000;

/**
 * The shortest first message of TLS (RFC 5246 §7.4.1.2): version 1.2, one cipher suite, no extensions. To make a true one takes all
 * authorities, and 50 ms; here any answer that is TLS will do, also an alert.
 */
const clientHello = Buffer.concat([
  Buffer.from('160301002d010000290303', 'hex'),
  // The random part. A server that waits for the end of a line sees one.
  Buffer.from('\r\n\r\n'.padEnd(32, '*')),
  Buffer.from('000002002f0100', 'hex'),
]);
/** The types of the records that may answer it (RFC 5246 §6.2.1): an alert, and a handshake. */
const answers = [0x15, 0x16];

/**
 * Asks a server on this machine whether it speaks TLS: one that speaks plain HTTP answers the first message with an error in HTTP.
 *
 * @param host `name:port`; without a port, that of HTTPS.
 */
export async function speaksTls(host: string): Promise<boolean> {
  const { hostname, port } = new URL(`https://${host}`);
  const address = hostname.replace(/^\[|\]$/g, '');
  // Names under `localhost` are this machine, whatever the resolver says (RFC 6761 §6.3).
  const socket = connect({ host: isIP(address) === 0 ? '127.0.0.1' : address, port: Number(port || 443) });
  socket.setTimeout(patience, () => socket.destroy(new Error('no answer')));
  try {
    socket.write(clientHello);
    const [answer]: unknown[] = await Promise.race([once(socket, 'data'), once(socket, 'close').then(() => [])]);
    return Buffer.isBuffer(answer) && answers.includes(answer[0] ?? 0) && answer[1] === 0x03;
  } catch {
    return false;
  } finally {
    socket.destroy();
  }
}
