// Writes docs/errors.md: every error code, with an example that a test produced. `--check`: says which
// codes no test produced, or the page lacks, and ends with 1 where there are any.
import { readFile, rm, writeFile } from 'node:fs/promises';
import { build } from 'esbuild';

const root = new URL('..', import.meta.url).pathname;
const page = `${root}docs/errors.md`;
const outfile = `${root}dist/errors.mjs`;
await build({ entryPoints: [`${root}src/core/errors.ts`], outfile, bundle: true, format: 'esm', platform: 'node' });
const { errorCodes, exitCodes } = await import(outfile);
await rm(outfile);

const seen = new Map();
for (const line of (await readFile(`${root}test-results/errors.jsonl`, 'utf8')).split('\n').filter(Boolean)) {
  const { code, ...problem } = JSON.parse(line);
  const known = seen.get(code);
  // The shortest that says everything, so that the page changes little.
  const size = JSON.stringify(problem).length;
  if (known === undefined || size < known.size) {
    seen.set(code, { problem, size });
  }
}
const codes = Object.values(errorCodes).flat();
const unseen = codes.filter((code) => !seen.has(code));

if (process.argv.includes('--check')) {
  const text = await readFile(page, 'utf8');
  const unlisted = codes.filter((code) => !text.includes(`### ${code}\n`));
  unseen.forEach((code) => console.error(`no test produced the error ${code}`));
  unlisted.forEach((code) => console.error(`docs/errors.md lacks ${code}: npm run errors`));
  process.exit(unseen.length + unlisted.length === 0 ? 0 : 1);
}

/** What differs from run to run, as something made up. */
function madeUp(text) {
  return text
    .replace(/\n +at .*/g, '')
    .replaceAll(root, '/build/')
    .replace(/\/tmp\/hod-[a-z]+-\w+/g, '/build')
    .replace(
      /\b(?:127\.0\.0\.1|(dev|uat|prod)\.localhost|\w+\.localhost|localhost):\d+/g,
      (_, name = 'dev') => `${name}.registry.test`,
    )
    .replace(/sha256:[0-9a-f]{64}/g, (digest) => `${digest.slice(0, 19)}…`)
    .replace(/\b[0-9a-f]{40}\b/g, (id) => `${id.slice(0, 12)}…`);
}

function example({ what, object, why, next }) {
  const line = (label, text) =>
    text === undefined || text.length === 0
      ? []
      : [`  ${label.padEnd(6)} ${madeUp([text].flat().join('\n')).replaceAll('\n', '\n         ')}`];
  return [`hod: ${madeUp(what)}`, ...line('object', object), ...line('why', why), ...line('next', next)].join('\n');
}

const parts = Object.entries(errorCodes).map(([fault, all]) => {
  const known = all.filter((code) => seen.has(code));
  const blocks = known.map((code) => `### ${code}\n\n\`\`\`text\n${example(seen.get(code).problem)}\n\`\`\``);
  return `## Exit ${exitCodes[fault]}: ${fault}\n\n${blocks.join('\n\n')}`;
});
const intro = `# Error codes

Every error has a stable code beside its words: \`error.code\` in the document of \`--json\`. The words may
change; the code and its [exit code](exit-codes.md) do not. Each code stands here with an example that a test
produced. Where several rules say no, the code is that of the first, and \`error.gates\` lists them all.

This page is written by \`npm run errors\`.`;
await writeFile(page, `${[intro, ...parts].join('\n\n')}\n`);
unseen.forEach((code) => console.error(`left out, for no test produced it: ${code}`));
