import { spawnSync } from 'node:child_process';
import { generateKeyPairSync } from 'node:crypto';
import { existsSync } from 'node:fs';
import { mkdir, readFile, writeFile } from 'node:fs/promises';
import { join } from 'node:path';

/** The keys of the sample product, and how hod.yaml names them. */
export interface SampleKeys {
  /** The path of the SSH key of somebody who may sign off; undefined where this machine has no ssh-keygen. */
  readonly manager: string | undefined;
  /** Public keys, by their paths in the product. */
  readonly files: Readonly<Record<string, string>>;
  /** The part of hod.yaml that names them all. */
  readonly config: string;
}

/** The release manager of the Skerry Line. */
const manager = 'siv@skerry.test';

/** Makes a key to sign releases with and, where ssh-keygen is installed, the SSH key of a person, in a folder beside the product. */
export async function makeSampleKeys(folder: string): Promise<SampleKeys> {
  await mkdir(folder, { recursive: true });
  const { publicKey, privateKey } = generateKeyPairSync('ed25519');
  const secret = privateKey.export({ format: 'pem', type: 'pkcs8' });
  await writeFile(join(folder, 'release.key'), secret, { mode: 0o600 });
  const path = join(folder, 'siv');
  const { error } = spawnSync('ssh-keygen', ['-q', '-t', 'ed25519', '-N', '', '-C', manager, '-f', path]);
  const isMade = error === undefined && existsSync(`${path}.pub`);
  const people = isMade ? { 'keys/allowed_signers': `${manager} ${await readFile(`${path}.pub`, 'utf8')}` } : {};
  return {
    manager: isMade ? path : undefined,
    files: { 'keys/release.pub.pem': publicKey.export({ format: 'pem', type: 'spki' }).toString(), ...people },
    config: `
sign: { key: { file: ../keys/release.key } } # signs release records and the ledger
trust: # whose signatures count
  keys: { release: { file: keys/release.pub.pem } }
${isMade ? '  people: { file: keys/allowed_signers }\n' : ''}groups: { release-managers: [${manager}] }
`,
  };
}

/** Returns what prod asks of a release of the sample product; signed sign-offs where somebody has a key. */
export function sampleGates({ manager: key }: Pick<SampleKeys, 'manager'>): string {
  return `
      results: [smoke, { name: scan, at-most: { critical: 0, high: 3 }, no-older-than: 7d }]
      sign-offs: { count: 1, from: [release-managers]${key === undefined ? '' : ', proven: true'} }`;
}

/** A report of a made-up scanner (SARIF 2.1.0), which ended at a time. */
export function sampleReport(at: Date): string {
  const results = [
    { ruleId: 'SKERRY-2026-0007', level: 'warning', message: { text: 'an old clock library' } },
    { ruleId: 'SKERRY-2026-0011', level: 'note', message: { text: 'a default that is wide' } },
  ];
  const tool = { driver: { name: 'gull-scan', version: '3.1' } };
  const invocations = [{ executionSuccessful: true, endTimeUtc: at.toISOString() }];
  return JSON.stringify({ version: '2.1.0', runs: [{ tool, invocations, results }] }, undefined, 2);
}
