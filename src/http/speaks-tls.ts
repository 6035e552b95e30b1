import { once } from 'node:events';
import { isIP } from 'node:net';
import { connect } from 'node:tls';

/** How long a server on this machine may take to answer the first message of TLS, in milliseconds. */
const patience = 1000;

/**
 * Asks a server on this machine whether it speaks TLS: one that speaks plain HTTP answers the first message with an error. The
 * certificate does not matter here; requests check it.
 *
 * @param host `name:port`; without a port, that of HTTPS.
 */
export async function speaksTls(host: string): Promise<boolean> {
  const { hostname, port } = new URL(`https://${host}`);
  const address = hostname.replace(/^\[|\]$/g, '');
  const named = isIP(address) === 0;
  const socket = connect({
    // Names under `localhost` are this machine, whatever the resolver says (RFC 6761 §6.3).
    host: named ? '127.0.0.1' : address,
    port: Number(port || 443),
    rejectUnauthorized: false,
    ...(named ? { servername: hostname } : {}),
  });
  socket.setTimeout(patience, () => socket.destroy(new Error('no answer')));
  try {
    await once(socket, 'secureConnect');
    return true;
  } catch {
    return false;
  } finally {
    socket.destroy();
  }
}
