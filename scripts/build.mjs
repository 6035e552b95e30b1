// Bundles Hod into dist/: one program, with a chunk for each command that is loaded only when it is needed.
import { chmod, readFile, rm } from 'node:fs/promises';
import { build } from 'esbuild';

const { version } = JSON.parse(await readFile(new URL('../package.json', import.meta.url), 'utf8'));
const root = new URL('..', import.meta.url).pathname;

await rm(`${root}dist`, { recursive: true, force: true });
await build({
  absWorkingDir: root,
  entryPoints: { hod: 'src/cli/main.ts' },
  outdir: 'dist',
  bundle: true,
  splitting: true,
  chunkNames: 'chunks/[name]-[hash]',
  format: 'esm',
  platform: 'node',
  target: 'node20',
  // The first ships a binary beside its code; the second is one that pg does without.
  external: ['libsql', 'pg-native'],
  alias: { '@commander-js/extra-typings': 'commander', undici: './scripts/undici.cjs' },
  define: { HOD_VERSION: JSON.stringify(version) },
  banner: {
    js: "import { createRequire as hodCreateRequire } from 'node:module';\nconst require = hodCreateRequire(import.meta.url);\nconst __filename = import.meta.filename;",
  },
  minify: true,
  // Beside the program, to read the stack of a defect with; nothing loads it by itself.
  sourcemap: 'external',
  legalComments: 'none',
  logLevel: 'warning',
});
await chmod(`${root}dist/hod.js`, 0o755);
