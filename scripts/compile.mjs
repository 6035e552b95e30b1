// Keeps what V8 compiled of the program while it published something small, for each start to take.
import { spawn } from 'node:child_process';
import { createHash } from 'node:crypto';
import { mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { createInterface } from 'node:readline';
import { setFlagsFromString } from 'node:v8';
import { constants, Script } from 'node:vm';

const [program] = process.argv.slice(2);
const start = join(program, '..', 'hod.js');
const home = mkdtempSync(join(tmpdir(), 'hod-compile-'));
const folder = join(home, 'product');
const sandbox = spawn(process.execPath, [start, 'sandbox', '--port', '0', '--json'], {
  stdio: ['ignore', 'pipe', 'inherit'],
});
process.on('exit', () => {
  sandbox.kill();
  rmSync(home, { recursive: true });
});
const [answer] = await createInterface(sandbox.stdout)
  [Symbol.asyncIterator]()
  .next()
  .then(({ value }) => JSON.parse(value).registries);
sandbox.stdout.destroy();
sandbox.unref();

/** Keeps a blob in the image layout, and answers its descriptor. */
function blob(mediaType, content) {
  const hex = createHash('sha256').update(content).digest('hex');
  mkdirSync(join(folder, 'out/blobs/sha256'), { recursive: true });
  writeFileSync(join(folder, 'out/blobs/sha256', hex), content);
  return { mediaType: `application/vnd.oci.image.${mediaType}`, digest: `sha256:${hex}`, size: content.length };
}
const config = blob(
  'config.v1+json',
  JSON.stringify({ architecture: 'amd64', os: 'linux', rootfs: { type: 'layers', diff_ids: [] } }),
);
const manifest = blob(
  'manifest.v1+json',
  JSON.stringify({
    schemaVersion: 2,
    mediaType: 'application/vnd.oci.image.manifest.v1+json',
    config,
    layers: [blob('layer.v1.tar', 'a layer')],
  }),
);
writeFileSync(join(folder, 'out/oci-layout'), '{"imageLayoutVersion":"1.0.0"}');
writeFileSync(join(folder, 'out/index.json'), JSON.stringify({ schemaVersion: 2, manifests: [manifest] }));
writeFileSync(
  join(folder, 'hod.yaml'),
  JSON.stringify({
    product: 'skerry-line',
    images: { timetable: { from: 'out' } },
    // Beside the product: in a CI, one within it is worth a word.
    ledger: { file: '../ledger.db' },
    environments: {
      dev: {
        repository: `${answer.registry}/skerry/{image}`,
        tags: { fixed: ['{version}'], moving: ['{branch}'] },
      },
    },
  }),
);

// As src/cli/start.ts does it, and with the same flags: the code is good for no others.
setFlagsFromString('--liftoff-only');
const file = `${program}.js`;
const script = new Script(readFileSync(file, 'latin1'), {
  filename: file,
  importModuleDynamically: constants.USE_MAIN_CONTEXT_DEFAULT_LOADER,
});
process.chdir(folder);
process.argv.splice(
  1,
  Infinity,
  start,
  'publish',
  '--commit',
  '1'.repeat(40),
  '--branch',
  'main',
  '--version',
  '1.0.0',
);
script.runInThisContext()(createRequire(file), { exports: {} }, file, dirname(file));
process.on('exit', (code) => {
  if (code === 0) {
    writeFileSync(`${program}.code`, script.createCachedData());
  }
});
