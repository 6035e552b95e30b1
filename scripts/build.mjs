// Bundles Hod into dist/: one program, the code it was compiled to, and what starts it.
import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { chmod, mkdir, readFile, rm, writeFile } from 'node:fs/promises';
import { build } from 'esbuild';
import { licencesOf } from './licences.mjs';
import { paletteCss } from './palette.mjs';

const { version } = JSON.parse(await readFile(new URL('../package.json', import.meta.url), 'utf8'));
const root = new URL('..', import.meta.url).pathname;
const dist = `${root}dist`;
const common = {
  absWorkingDir: root,
  bundle: true,
  format: 'cjs',
  platform: 'node',
  target: 'node20',
  minify: true,
  legalComments: 'none',
  metafile: true,
  logLevel: 'warning',
};

/** The commit that is built, for people who ask which Hod they have; nothing outside a clone. */
function commit() {
  try {
    const git = (...args) =>
      execFileSync('git', ['-C', root, ...args], { encoding: 'utf8', stdio: ['ignore', 'pipe', 'ignore'] }).trim();
    const changes = git('status', '--porcelain', '--untracked-files=no') === '' ? '' : ', with changes';
    return ` (commit ${git('rev-parse', '--short=12', 'HEAD')}${changes})`;
  } catch {
    return '';
  }
}

/** Parts of packages that Hod does not use and that cost each start: a file of ours is taken in the place of each. */
const replaced = {
  name: 'replaced',
  setup({ onResolve }) {
    const replace = (filter, importer, file) =>
      onResolve({ filter }, ({ importer: from }) =>
        importer.test(from) ? { path: `${root}scripts/${file}` } : undefined,
      );
    // Hod reads the clone itself, in fewer runs of git, and needs no package to run programs with.
    replace(/\/lib\/git\.js$/, /\/env-ci\//, 'parts/env-ci-git.mjs');
    // Hod speaks HTTP/1.1 alone.
    replace(/^\.\/client-h2\.js$/, /\/undici\//, 'parts/undici-http2.cjs');
    // A report of the whole process, and a shell, to find which C library there is: twice.
    replace(/^(@neon-rs\/load|detect-libc)$/, /\/libsql\//, 'parts/libsql-binding.cjs');
  },
};

const HOD_VERSION = JSON.stringify(`${version}${commit()}`);
const { outputFiles, metafile } = await build({
  ...common,
  entryPoints: ['src/cli/main.ts'],
  outfile: 'dist/program.js',
  write: false,
  // One that pg does without.
  external: ['pg-native'],
  alias: {
    '@commander-js/extra-typings': 'commander',
    undici: './scripts/parts/undici.cjs',
    zod: './scripts/parts/zod.mjs',
    // Its other form asks where it lies, which a bundle does not know.
    tinyglobby: './node_modules/tinyglobby/dist/index.cjs',
  },
  plugins: [replaced],
  define: {
    HOD_VERSION,
    // The package asks our part for its binary then, and does not look for it beside itself.
    'process.env.LIBSQL_JS_DEV': '"yes"',
  },
  // What `start` calls. All of it is one function, so that nothing of it is global.
  banner: { js: '(function(require,module,__filename,__dirname){' },
  footer: { js: '})' },
  // Beside the program, to read the stack of a defect with; nothing loads it by itself.
  sourcemap: 'external',
});
const [map, program] = outputFiles.sort((one, other) => other.path.length - one.path.length);
const name = `program-${createHash('sha256').update(program.contents).digest('hex').slice(0, 8)}`;

await rm(dist, { recursive: true, force: true });
await mkdir(dist);
await writeFile(`${dist}/package.json`, '{ "type": "commonjs" }\n');
await writeFile(`${dist}/${name}.js`, program.contents);
await writeFile(`${dist}/${name}.js.map`, map.contents);
await build({
  ...common,
  entryPoints: ['src/cli/start.ts'],
  outfile: 'dist/hod.js',
  define: { HOD_PROGRAM: JSON.stringify(name), HOD_VERSION },
  banner: { js: '#!/usr/bin/env node' },
});
const thread = await build({
  ...common,
  entryPoints: ['src/archive/gzip/thread.ts'],
  outfile: 'dist/deflate-thread.js',
});
// What `hod board` writes into its page.
const page = await build({
  ...common,
  entryPoints: { board: 'src/page/main.ts' },
  outdir: 'dist',
  format: 'iife',
  platform: 'browser',
  target: 'es2022',
});
const colours = {
  name: 'palette',
  setup({ onResolve, onLoad }) {
    onResolve({ filter: /^palette$/ }, () => ({ path: 'palette', namespace: 'palette' }));
    onLoad({ filter: /.*/, namespace: 'palette' }, () => ({ contents: paletteCss(), loader: 'css' }));
  },
};
await build({ ...common, entryPoints: { board: 'src/page/style.css' }, outdir: 'dist', plugins: [colours] });
await writeFile(`${dist}/LICENCES.txt`, await licencesOf(root, [metafile, thread.metafile, page.metafile]));
await chmod(`${dist}/hod.js`, 0o755);
execFileSync(process.execPath, [`${root}scripts/compile.mjs`, `${dist}/${name}`], {
  stdio: ['ignore', 'ignore', 'inherit'],
});
