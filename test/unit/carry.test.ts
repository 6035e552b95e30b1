import { HodError } from '../../src/core/errors';
import type { ContentNode } from '../../src/core/oci/content';
import { sha256, type Digest } from '../../src/core/oci/digest';
import { parseManifest } from '../../src/core/oci/manifest';
import { mediaTypes } from '../../src/core/oci/media-types';
import { Carrier } from '../../src/delivery/carry';
import type { RepositoryTarget } from '../../src/registry/ports';
import { unaskedTarget } from '../support/ports';
import { silent } from '../../src/session/observer';

const shared = { mediaType: 'application/vnd.oci.empty.v1+json', digest: sha256('{}'), size: 2 };

function artifact(text: string): ContentNode {
  const document = {
    schemaVersion: 2,
    mediaType: mediaTypes.manifest,
    config: shared,
    layers: [shared],
    annotations: { text },
  };
  const manifest = parseManifest(Buffer.from(JSON.stringify(document)), { label: text });
  const never = () => Promise.reject(new Error('nothing is read'));
  return { manifest, source: { label: 'out', readManifest: never, openBlob: never }, children: [] };
}

test('what a registry said that it has, and lacks, is sent once for all manifests that need it, before any of them', async () => {
  const sent: Digest[] = [];
  const here = new Set<Digest>();
  const unasked = unaskedTarget('prod.test/skerry/timetable');
  const tick = () => new Promise((resolve) => setImmediate(resolve));
  const target: RepositoryTarget = {
    ...unasked,
    blobs: {
      ...unasked.blobs,
      has: () => Promise.resolve(true),
      check: () => Promise.resolve(),
      upload: async ({ digest }) => {
        sent.push(digest);
        await tick();
        await tick();
        here.add(digest);
      },
    },
    manifests: {
      ...unasked.manifests,
      put: async () => {
        await tick();
        if (!here.has(shared.digest)) {
          throw new HodError('content-lacking', { what: 'a blob is missing', object: 'x', why: 'y', next: 'z' });
        }
      },
    },
  };
  const carrier = new Carrier({ dryRun: false }, silent.transfer);
  await Promise.all(Array.from({ length: 11 }, (_, at) => carrier.carry(artifact(String(at)), target)));
  expect(sent).toEqual([shared.digest]);
});
