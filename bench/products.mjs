import { createHash } from 'node:crypto';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { commit, folder, hod, inMegabytes, inSeconds, quick, report, root, timed, withRegistry } from './harness.mjs';
import { withPostgres } from './ledgers.mjs';

/** So many products, each with so many images. */
const [products, images] = [quick ? 20 : 200, 5];

/** What it takes to publish, promote and look at many products with one command each. */
export async function measureProducts() {
  await withPostgres((url) =>
    withRegistry((port) => {
      for (const [where, ledger] of [
        ['a file', '{ file: ledger.db }'],
        ['PostgreSQL', '{ postgres: { env: HOD_LEDGER_URL } }'],
      ]) {
        measureWith({ where, ledger, port, url });
      }
    }),
  );
}

function measureWith({ where, ledger, port, url }) {
  const path = join(folder, `products-${where.replaceAll(' ', '-')}`);
  const names = Array.from({ length: images }, (_, at) => `image-${at}`);
  const environment = (name, more) =>
    `  ${name}: { repository: "localhost:${port}/${where.toLowerCase().replaceAll(' ', '-')}/${name}/{product}/{image}", ${more} }`;
  mkdirSync(path, { recursive: true });
  writeFileSync(
    join(path, 'base.yaml'),
    [
      'environments:',
      environment('dev', 'tags: { fixed: ["{version}"], moving: [latest] }'),
      environment('uat', 'after: dev, tags: { fixed: ["{version}"], moving: [uat] }'),
      `ledger: ${ledger}`,
      '',
    ].join('\n'),
  );
  for (let at = 0; at < products; at += 1) {
    const product = join(path, 'services', `product-${String(at).padStart(3, '0')}`);
    names.forEach((name) => writeLayout(join(product, name), `${where} ${at} ${name}`));
    const built = names.map((name) => `${name}: { from: ${name} }`).join(', ');
    const text = `extends: ../../base.yaml\nproduct: product-${at}\nimages: { ${built} }\n`;
    writeFileSync(join(product, 'hod.yaml'), text);
  }
  const all = ['-c', 'services/*/hod.yaml'];
  const work = `${products} products × ${images} images, ledgers in ${where}`;
  for (const [what, ...args] of [
    ['publish', 'publish', '--commit', commit, '--version', '1.0.0', '--branch', 'main'],
    ['status', 'status'],
    ['promote --together', 'promote', 'uat', '--together'],
    ['promote again', 'promote', 'uat', '--together'],
  ]) {
    const { seconds, cpu, peak, connections, document } = run(path, { HOD_LEDGER_URL: url }, [...args, ...all]);
    const failed = document.products.find(({ error }) => error !== null);
    if (document.products.length !== products || failed !== undefined) {
      throw new Error(`${what}: ${JSON.stringify(failed?.error)}`);
    }
    const requests = requestsIn(document);
    const asked = requests === 0 ? '' : `, ${requests} requests`;
    report(`${what}, ${work}`, '–', `${inSeconds(seconds)}, ${inSeconds(cpu)} CPU${asked}`, '–', '–');
    report('peak memory of that', '–', inMegabytes(peak), '–', '–');
    report('connections of that', '–', String(connections), '–', '≤ 24', connections <= 24);
  }
}

function requestsIn({ products: all }) {
  const components = all.flatMap(({ result }) => result.components ?? []);
  return components.reduce((sum, { transfer }) => sum + (transfer?.requests ?? 0), 0);
}

function run(path, env, args) {
  const files = { HOD_PEAK_FILE: join(folder, 'peak'), HOD_CONNECTIONS_FILE: join(folder, 'connections') };
  const preloads = [join(root, 'test', 'support', 'peak-memory.cjs'), join(root, 'bench', 'peak-connections.cjs')];
  const options = { NODE_OPTIONS: preloads.map((each) => `--require=${each}`).join(' ') };
  const found = timed([process.execPath, hod, ...args, '--json'], {
    cwd: path,
    env: { ...process.env, ...env, ...files, ...options },
  });
  const [peak, connections] = Object.values(files).map((file) => Number(readFileSync(file, 'utf8')));
  return { ...found, peak, connections, document: JSON.parse(found.stdout) };
}

/** A small image of one layer, as an OCI image layout. */
function writeLayout(path, text) {
  mkdirSync(join(path, 'blobs', 'sha256'), { recursive: true });
  const blob = (content, mediaType) => {
    const hex = createHash('sha256').update(content).digest('hex');
    writeFileSync(join(path, 'blobs', 'sha256', hex), content);
    return { mediaType, digest: `sha256:${hex}`, size: Buffer.byteLength(content) };
  };
  const layer = blob(Buffer.from(text.padEnd(20_000, '.')), 'application/vnd.oci.image.layer.v1.tar');
  const labels = { 'org.opencontainers.image.revision': commit };
  const config = blob(
    JSON.stringify({
      architecture: 'amd64',
      os: 'linux',
      config: { Labels: labels },
      rootfs: { type: 'layers', diff_ids: [layer.digest] },
    }),
    'application/vnd.oci.image.config.v1+json',
  );
  const type = 'application/vnd.oci.image.manifest.v1+json';
  const manifest = blob(JSON.stringify({ schemaVersion: 2, mediaType: type, config, layers: [layer] }), type);
  writeFileSync(join(path, 'oci-layout'), '{"imageLayoutVersion":"1.0.0"}');
  writeFileSync(join(path, 'index.json'), JSON.stringify({ schemaVersion: 2, manifests: [manifest] }));
}
