// Writes docs/schemas: the JSON Schema of every document that `--json` answers with.
import { mkdir, rm, writeFile } from 'node:fs/promises';
import { build } from 'esbuild';
import * as z from 'zod';

const root = new URL('..', import.meta.url).pathname;
const outfile = `${root}dist/results.mjs`;
await build({
  entryPoints: [`${root}src/results/index.ts`],
  outfile,
  bundle: true,
  format: 'esm',
  platform: 'node',
  // The schemas are those of one Zod, which also turns them into JSON Schema.
  external: ['zod'],
});
const { resultSchemas } = await import(outfile);
await rm(outfile);
await mkdir(`${root}docs/schemas`, { recursive: true });
for (const [name, schema] of Object.entries(resultSchemas)) {
  await writeFile(`${root}docs/schemas/${name}.json`, `${JSON.stringify(z.toJSONSchema(schema), undefined, 2)}\n`);
}
