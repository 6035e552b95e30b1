// Fills a ledger file and a registry with so many releases of so many images, each release with a tag of its own.
import { sha256 } from '../src/core/oci/digest';
import { parseManifest } from '../src/core/oci/manifest';
import { formatRepository, parseRepository } from '../src/core/oci/reference';
import { emptyHead, entryAfter, headAfter } from '../src/core/ledger/entry';
import { releaseIdSchema } from '../src/core/ledger/release';
import { tagSchema } from '../src/core/oci/tag';
import { commitSchema } from '../src/core/commit';
import { openSqliteLedger } from '../src/ledger/engines/sqlite';
import { at2026 } from './ledger-content';

const [file = '', registry = '', images = '0', releases = '0'] = process.argv.slice(2);
const type = 'application/vnd.oci.image.manifest.v1+json';
const blobs = { config: '{"os":"linux","architecture":"amd64"}', layer: 'a layer that all of them share' };

async function put(path: string, body: string, mediaType: string): Promise<void> {
  const headers = { 'content-type': mediaType };
  const answer = await fetch(`http://${registry}/v2/${path}`, { method: 'PUT', headers, body });
  if (!answer.ok) {
    throw new Error(`${path}: ${answer.status}`);
  }
}

async function upload(name: string, content: string): Promise<void> {
  const begun = await fetch(`http://${registry}/v2/${name}/blobs/uploads/`, { method: 'POST' });
  const place = new URL(begun.headers.get('location') ?? '', `http://${registry}`);
  place.searchParams.set('digest', sha256(content));
  await put(`${place.pathname}${place.search}`.replace('/v2/', ''), content, 'application/octet-stream');
}

const names = Array.from({ length: Number(images) }, (_, at) => `image-${at}`);
for (const name of names) {
  await Promise.all(Object.values(blobs).map((content) => upload(`skerry/${name}`, content)));
}

const ledger = await openSqliteLedger({ file, product: 'skerry-line', access: 'write', waiting: () => undefined });
let head = emptyHead;
for (let at = 0; at < Number(releases); at += 1) {
  const manifest = (name: string): string =>
    JSON.stringify({
      ...{ schemaVersion: 2, mediaType: type },
      config: {
        mediaType: 'application/vnd.oci.image.config.v1+json',
        digest: sha256(blobs.config),
        size: blobs.config.length,
      },
      layers: [
        {
          mediaType: 'application/vnd.oci.image.layer.v1.tar',
          digest: sha256(blobs.layer),
          size: blobs.layer.length,
        },
      ],
      annotations: { 'org.skerry.build': `${name} ${at}` },
    });
  const tag = tagSchema.parse(`c-${at}`);
  await Promise.all(names.map((name) => put(`skerry/${name}/manifests/${tag}`, manifest(name), type)));
  const components = names.map((component) => {
    const { digest } = parseManifest(Buffer.from(manifest(component)), { label: component });
    const repository = formatRepository(parseRepository(`${registry}/skerry/${component}`));
    return {
      ...{ component, repository, digest, mediaType: type, size: manifest(component).length },
      platforms: ['linux/amd64'],
    };
  });
  const sealed = entryAfter(head, {
    ...{ product: 'skerry-line', at: at2026, actor: 'una' },
    action: {
      ...{ kind: 'published', release: releaseIdSchema.parse(sha256(`release ${at}`)), branch: 'main' },
      ...{ commit: commitSchema.parse(at.toString(16).padStart(40, '0')), environment: 'dev', components },
      tags: components.map(({ component, repository, digest }) => {
        return { component, repository, digest, tag, kind: 'fixed' };
      }),
      arrivals: names.map((component) => {
        return { component, way: 'takes-over', lanes: ['branch main'], tagged: ['branch main'] };
      }),
    },
  });
  if ((await ledger.append([sealed], head)) === undefined) {
    throw new Error('somebody else wrote into the ledger');
  }
  head = headAfter(sealed);
}
await ledger.close();
process.stdout.write('null');
