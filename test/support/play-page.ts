import { execFile } from 'node:child_process';
import { readFile } from 'node:fs/promises';
import { join, resolve } from 'node:path';
import { promisify } from 'node:util';
import { plainEnvironment, program } from './hod';
import type { World } from './world';

const root = resolve(__dirname, '../..');
const run = promisify(execFile);

/** A page of the docs, by its path from the root of the project. */
export function readPage(path: string): Promise<string> {
  return readFile(join(root, path), 'utf8');
}

/** A section of a page, by its title. */
export function sectionOf(page: string, title: string): string {
  return page.split(/^## /m).find((section) => section.startsWith(`${title}\n`)) ?? '';
}

/** Every block of shell lines in a page. */
export function shellBlocks(page: string): string[] {
  return [...page.matchAll(/^```sh\n([^]*?)^```$/gm)].map(([, text = '']) => text);
}

/** Plays lines as a person types them, in the folder of the product. Answers what was said, each command under its own line. */
export async function playLines(
  lines: string,
  world: {
    readonly product: { readonly folder: string };
    readonly env: World['env'];
    readonly host: (name: 'dev' | 'uat') => string;
  },
): Promise<string> {
  const script = lines.replaceAll(/\b(dev|uat)\.registry\.test\b/g, (_, name: 'dev' | 'uat') => world.host(name));
  const shell = `set -e\nhod() { printf '%s\\n' "== $*"; '${process.execPath}' '${program}' "$@"; }\n${script}`;
  const una = { NAME: 'Una Skerry', EMAIL: 'una@skerry.test' };
  const names = Object.entries(una).flatMap(([key, value]) => [
    [`GIT_AUTHOR_${key}`, value],
    [`GIT_COMMITTER_${key}`, value],
  ]);
  const env = { ...plainEnvironment, ...Object.fromEntries(names), ...world.env };
  return (await run('sh', ['-c', shell], { cwd: world.product.folder, env })).stdout;
}
