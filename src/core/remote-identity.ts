/**
 * Returns where a git remote is, whatever way leads there: `host/path`, without login, port, scheme and `.git`; a path of this
 * machine as it is. Two jobs may reach one remote over SSH and HTTPS.
 */
export function remoteIdentity(url: string): string {
  const [, host, path] =
    /^[a-z][a-z0-9+.-]*:\/\/(?:[^/@]*@)?([^/:]+)(?::\d+)?\/(.*)$/i.exec(url) ??
    // The short form of SSH: `git@host:path`.
    /^(?:[^/@]+@)?([^/:@]{2,}):(?!\/\/)(.*)$/.exec(url) ??
    [];
  const trimmed = (text: string): string =>
    text
      .replace(/\/+$/, '')
      .replace(/\.git$/, '')
      .replace(/\/+$/, '');
  return host === undefined || path === undefined || /^file:/i.test(url)
    ? trimmed(url.replace(/^file:\/\//i, ''))
    : `${host.toLowerCase()}/${trimmed(path).replace(/^\/+/, '')}`;
}

/**
 * Whether two remotes are the same repository: of one path. Jobs may reach a host by an alias or a mirror; a fork has another path. That
 * a job could name another host for itself is no matter: it could then write what it likes without Hod too.
 */
export function isSameRemote(one: string, other: string): boolean {
  return one === other || (!one.startsWith('/') && !other.startsWith('/') && pathOf(one) === pathOf(other));
}

function pathOf(identity: string): string {
  return identity.slice(identity.indexOf('/') + 1);
}
