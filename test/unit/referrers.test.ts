import { sha256 } from '../../src/core/oci/digest';
import { parseManifest } from '../../src/core/oci/manifest';
import { mediaTypes } from '../../src/core/oci/media-types';
import { referrersTag, withReferrers } from '../../src/core/oci/referrers';
import { artifact, referrersModel, subject } from '../models/referrers';
import { testModel } from '../support/models';

testModel(referrersModel, 200);

test('a list keeps what others wrote into it, and does not name a manifest twice', () => {
  const text = JSON.stringify({
    schemaVersion: 2,
    mediaType: mediaTypes.index,
    manifests: [{ ...subject, 'org.other': { kept: true } }],
    annotations: { a: 'b' },
    'org.other': [1],
  });
  const before = parseManifest(Buffer.from(text), { label: 'a list' });
  const signature = artifact('signed');
  const added = { mediaType: signature.mediaType, digest: signature.digest, size: signature.bytes.length };
  const after: unknown = JSON.parse(Buffer.from(withReferrers(before, [added, subject]).bytes).toString());
  expect(after).toEqual({
    ...(JSON.parse(text) as object),
    manifests: [{ ...subject, 'org.other': { kept: true } }, added],
  });
  expect(referrersTag(sha256('x')).length).toBe(71);
});
