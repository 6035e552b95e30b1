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
