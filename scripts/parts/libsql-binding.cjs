// What libsql asks to find its binary: the packages that it has for this print a report of the whole process and run a shell.
const { createRequire } = require('node:module');
const { GLIBC, MUSL, familySync } = require('detect-libc');

/** The end of the name of the package that holds the binary for this machine. */
function currentTarget() {
  const { arch, platform } = process;
  if (platform !== 'linux') {
    return `${platform}-${arch}${platform === 'win32' ? '-msvc' : ''}`;
  }
  const library = familySync() === MUSL ? 'musl' : 'gnu';
  return `linux-${arch}-${library}${arch === 'arm' ? 'eabihf' : ''}`;
}

module.exports = {
  GLIBC,
  MUSL,
  currentTarget,
  familySync,
  /** Loads the binary. It is installed as a dependency of libsql, which is found from where this program lies. */
  load: () => createRequire(createRequire(__filename).resolve('libsql'))(`@libsql/${currentTarget()}`),
};
