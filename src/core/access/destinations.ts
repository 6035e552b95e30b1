import { hostOf } from '../oci/reference';

/**
 * Where requests may go that an answer from outside asks for. Whoever runs a registry decides what
 * it answers, and must not decide by it where secrets go, nor what is asked of this machine.
 */

/** Whether a host is this machine, by its name or address: no packet to it leaves the machine. */
export function isThisMachine(host: string): boolean {
  const name = hostOf(host).toLowerCase().replace(/\.$/, '');
  return name === 'localhost' || name.endsWith('.localhost') || name === '[::1]' || /^127(?:\.\d{1,3}){3}$/.test(name);
}

/** Whether a host, as a URL writes it, is this machine, or an address that means one thing on each machine (RFC 3927, RFC 4291 §2.5). */
export function isNear(host: string): boolean {
  const name = hostOf(host).toLowerCase();
  return (
    isThisMachine(host) ||
    /^(?:0\.\d|169\.254\.)/.test(name) ||
    /^\[(?:::|fe[89ab][0-9a-f]:.*)\]$/.test(name) ||
    // An IPv4 address within an IPv6 address (RFC 4291 §2.5.5): 127.0.0.0/8, 169.254.0.0/16, 0.0.0.0/8.
    /^\[::(?:ffff:)?(?:7f[0-9a-f]{2}|a9fe|[0-9a-f]{1,2}|0):[0-9a-f]{1,4}\]$/.test(name)
  );
}

/** The address that an answer names, against the address of the request; undefined where it is no HTTP address. */
export function resolveAddress(text: string, base: URL): URL | undefined {
  if (/[\u0000-\u0020\u007f\\]/.test(text) || !URL.canParse(text, base.href)) {
    return undefined;
  }
  const url = new URL(text, base.href);
  return /^https?:$/.test(url.protocol) && url.username === '' && url.password === '' ? url : undefined;
}

/** Why content is not fetched from, or sent to, an address that a registry names; undefined where it may be. */
export function whyNotRedirected(registry: URL, from: URL, to: URL): string | undefined {
  if (from.protocol === 'https:' && to.protocol !== 'https:') {
    return `it leads from ${from.host}, over TLS, to ${to.host}, over plain HTTP`;
  }
  if (isNear(to.host) && !isNear(registry.host)) {
    return `it leads from ${registry.host} to ${to.host}, which is an address of this machine alone`;
  }
  return undefined;
}

/** Why a secret is not sent to an address; undefined where it may be. `named`: who named it, where that was a registry. */
export function whyExposed(to: URL, named?: URL): string | undefined {
  if (to.protocol !== 'https:' && !isThisMachine(to.host)) {
    return `${to.host} is reached over plain HTTP, where a secret can be read on the way`;
  }
  if (named !== undefined && isNear(to.host) && !isNear(named.host)) {
    return `${named.host} names ${to.host}, which is an address of this machine alone`;
  }
  return undefined;
}
