import { spawnSync } from 'node:child_process';
import { existsSync, readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import * as z from 'zod';

const root = join(__dirname, '../..');

/** Breaches of the laws of the house, each planted in a file of its own, and what stands beside it and breaks none. */
const planted: readonly [path: string, code: string, rule: string | undefined][] = [
  ['src/core/planted.ts', "import { connect } from '../registry/connection';", 'laws/one-way'],
  ['src/cli/planted.ts', "export const load = () => import('../workspace/config');", 'laws/one-way'],
  ['src/results/planted.ts', "export type { Session } from '../session/session';", 'laws/one-way'],
  ['src/core/oci/planted.ts', "type Entry = import('../ledger/entry').Entry;", 'laws/one-way'],
  ['src/core/ledger/planted.ts', "import { judge } from '../release/verdict';", 'laws/one-way'],
  ['src/core/release/planted.ts', "import { Facts } from '../ledger/facts';", undefined],
  ['src/operations/planted.ts', 'export interface Knowledge {}', 'laws/one-name'],
  ['src/operations/planted.ts', 'interface Knowledge {}', undefined],
  ['src/archive/planted.ts', 'export function read(path: string, whole: boolean) {}', 'laws/few-parameters'],
  ['src/archive/planted.ts', 'export function read(path: string, whole = false) {}', 'laws/few-parameters'],
  ['src/archive/planted.ts', 'export class Reader { read(path: string, whole?: boolean) {} }', 'laws/few-parameters'],
  ['src/archive/planted.ts', 'export const read = (a: 1, b: 2, c: 3, d: 4, e: 5) => a;', 'laws/few-parameters'],
  ['src/archive/planted.ts', 'function read(path: string, whole: boolean) {}', undefined],
  ['src/archive/planted.ts', `function long() {\n${'  work();\n'.repeat(50)}}`, 'max-lines-per-function'],
];

test('each law of the house is broken by a planted breach, and by nothing beside it', () => {
  const { stdout, stderr } = spawnSync(process.execPath, [join(root, 'test/support/lint-planted.mjs')], {
    cwd: root,
    input: JSON.stringify(planted.map(([path, code]) => ({ path, code }))),
    encoding: 'utf8',
  });
  expect(stderr).toBe('');
  const answers = z.array(z.array(z.string())).parse(JSON.parse(stdout));
  expect(answers).toEqual(planted.map(([, , rule]) => (rule === undefined ? [] : [rule])));
});

test('every file, folder and name of code that docs/architecture.md mentions is there', () => {
  const text = readFileSync(join(root, 'docs/architecture.md'), 'utf8');
  const marked = [...text.replace(/^```[^]*?^```/gm, '').matchAll(/`([^`]+)`/g)].map(([, mark]) => mark ?? '');
  const files = ['src', 'test', 'scripts', 'docs'].flatMap((folder) =>
    readdirSync(join(root, folder), { recursive: true, encoding: 'utf8' }).map((file) => `${folder}/${file}`),
  );
  const code = files
    .filter((file) => /^(src|test)\/.*\.ts$/.test(file))
    .map((file) => readFileSync(join(root, file), 'utf8'))
    .join('\n');
  const isThere = (path: string): boolean =>
    existsSync(join(root, path)) || files.some((file) => file.endsWith(`/${path}`));
  const paths = marked.filter((mark) => /^[\w-]+(\/[\w.-]*)+$|^[\w-]+\.(ts|mjs|js|md)$/.test(mark));
  const names = marked.filter((mark) => /^[a-z]+[A-Z]\w*$|^[A-Z][a-z]+([A-Z]\w*)?$/.test(mark));
  expect(paths.length).toBeGreaterThan(20);
  expect(names.length).toBeGreaterThan(5);
  expect(paths.filter((path) => !isThere(path.replace(/\/$/, '')) && path !== 'dist/hod.js')).toEqual([]);
  expect(names.filter((name) => !new RegExp(`\\b${name}\\b`).test(code))).toEqual([]);
});
