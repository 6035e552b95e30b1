import { execFile } from 'node:child_process';
import { readFile, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { promisify } from 'node:util';

const openssl = (folder: string, ...args: string[]) => promisify(execFile)('openssl', args, { cwd: folder });

/** Makes a certificate authority in a folder: `ca.pem` and `ca.key`. */
export async function makeAuthority(folder: string): Promise<string> {
  const subject = ['-subj', '/CN=Skerry Test Authority', '-days', '2'];
  await openssl(
    folder,
    'req',
    '-x509',
    '-newkey',
    'rsa:2048',
    '-nodes',
    '-keyout',
    'ca.key',
    '-out',
    'ca.pem',
    ...subject,
  );
  return join(folder, 'ca.pem');
}

/** Makes a key and a certificate that the authority of the folder signed: `NAME.key` and `NAME.pem`. */
export async function makeCertificate(folder: string, name: string, hosts: readonly string[]): Promise<void> {
  const names = hosts.map((host) => (/^[\d.]+$/.test(host) ? `IP:${host}` : `DNS:${host}`));
  await writeFile(join(folder, `${name}.ext`), `subjectAltName=${names.join(',') || 'DNS:none.test'}\n`);
  const request = [
    'req',
    '-newkey',
    'rsa:2048',
    '-nodes',
    '-keyout',
    `${name}.key`,
    '-out',
    `${name}.csr`,
    '-subj',
    `/CN=${name}`,
  ];
  await openssl(folder, ...request);
  const signing = ['-CA', 'ca.pem', '-CAkey', 'ca.key', '-CAcreateserial', '-days', '2', '-extfile', `${name}.ext`];
  await openssl(folder, 'x509', '-req', '-in', `${name}.csr`, '-out', `${name}.pem`, ...signing);
}

/** The content of a certificate as tokens carry it (RFC 7515 §4.1.6, `x5c`). */
export async function certificateBody(file: string): Promise<string> {
  const pem = await readFile(file, 'utf8');
  return pem.replace(/-----[^-]+-----|\s/g, '');
}
