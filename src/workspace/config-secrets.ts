import * as z from 'zod';
import type { ConfigFinding } from './config-findings';

const anyRecord = z.record(z.string(), z.unknown()).catch({});

/** Secrets that were written into the configuration, which is read by all who read the repository. */
export function misplacedSecrets(raw: unknown): ConfigFinding[] {
  const { registries, ledger, announce } = anyRecord.parse(raw);
  const findings: ConfigFinding[] = [];
  for (const [registry, access] of Object.entries(anyRecord.parse(registries))) {
    const { credentials } = anyRecord.parse(access);
    const { password } = anyRecord.parse(credentials);
    const isLogin = typeof credentials === 'string' && credentials !== 'none';
    const found = isLogin ? [] : typeof password === 'string' ? ['password'] : undefined;
    if (found !== undefined) {
      findings.push({
        path: ['registries', registry, 'credentials', ...found],
        text: `${found[0] ?? 'credentials'}: a secret never stands here; say where it is: { env: VARIABLE } or { file: PATH }, and change this one`,
      });
    }
  }
  for (const [receiver, said] of Object.entries(anyRecord.parse(announce))) {
    if (typeof anyRecord.parse(said)['key'] === 'string') {
      findings.push({
        path: ['announce', receiver, 'key'],
        text: 'key: a secret never stands here; say where it is: { env: VARIABLE } or { file: PATH }, and change this one',
      });
    }
  }
  const { postgres } = anyRecord.parse(ledger);
  return typeof postgres === 'string'
    ? [
        ...findings,
        {
          path: ['ledger', 'postgres'],
          text: 'postgres: this URL holds a password, and never stands here; say where it is: { env: VARIABLE } or { file: PATH }',
        },
      ]
    : findings;
}
