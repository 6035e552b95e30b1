import { allBytes } from '../../core/bytes';
import { verified, type ContentNode } from '../../core/oci/content';
import type { Descriptor } from '../../core/oci/descriptor';
import { typeOf } from '../../core/oci/referrers';
import { HodError } from '../../core/errors';
import type { SignedDocument } from '../../core/release/gates/attested';
import { readEnvelope } from '../../core/trust/dsse';
import { readUnlessGone, type Referrer } from './find';

/** Media types of signed documents: envelopes of DSSE, and statements of in-toto, which stand in such envelopes. */
const signedType = /(^|[^a-z])(dsse|in-toto)([^a-z]|$)/;
/**
 * A signed document is JSON, and Hod reads no larger JSON.
 * @limit the documents of one referrer together | bytes | the document does not count
 */
const most = 4 * 1024 * 1024;
/**
 * Each document costs a check of its signatures.
 * @limit documents of one referrer | documents | the rest do not count
 */
const mostDocuments = 100;

/**
 * The documents are held in memory.
 * @limit signed documents of one component together | bytes | `too-many-manifests`
 */
const mostBytes = 64 * 1024 * 1024;
/** So many referrers are read at once. */
const atOnce = 16;

/**
 * Reads the signed documents among the referrers of a component. Others, such as bills of materials, are not read.
 *
 * @throws `too-many-manifests` where anybody has pushed more of them than can be looked at.
 */
export async function readSignedDocuments(referrers: readonly Referrer[]): Promise<SignedDocument[]> {
  const found: SignedDocument[] = [];
  let held = 0;
  for (let at = 0; at < referrers.length; at += atOnce) {
    const read = await Promise.all(
      referrers.slice(at, at + atOnce).map(async (each) => {
        const node = await readUnlessGone(each);
        return node === undefined ? [] : documentsIn(each, node);
      }),
    );
    found.push(...read.flat());
    held += read
      .flat()
      .reduce((sum, { reading }) => sum + ('envelope' in reading ? reading.envelope.payload.length : 0), 0);
    if (held > mostBytes) {
      throw new HodError('too-many-manifests', {
        what: 'there are too many signed documents',
        object: referrers[0]?.subject ?? '',
        why: `those that refer to it have more than ${mostBytes} bytes together`,
        next: 'remove those that nobody needs from the registry',
      });
    }
  }
  return found;
}

/** The signed documents that a referrer holds. */
async function documentsIn(
  { digest: referrer, subject }: Pick<Referrer, 'digest' | 'subject'>,
  { manifest, source }: ContentNode,
): Promise<SignedDocument[]> {
  if (manifest.kind === 'index') {
    return [];
  }
  const isSigned = signedType.test(typeOf(manifest));
  const layers = manifest.layers.filter(({ mediaType }) => isSigned || signedType.test(mediaType));
  const size = layers.reduce((sum, layer) => sum + layer.size, 0);
  if (size > most) {
    const problem = `it has ${size} bytes of signed documents, and at most ${most} are read`;
    return [{ referrer, subject, reading: { problem } }];
  }
  const readings: SignedDocument['reading'][] = [];
  for (const layer of layers) {
    readings.push(...readingsOf(await bytesOf(layer, source)));
  }
  return readings.slice(0, mostDocuments).map((reading) => ({ referrer, subject, reading }));
}

async function bytesOf(layer: Descriptor, source: ContentNode['source']): Promise<Uint8Array> {
  return allBytes(verified(await source.openBlob(layer), layer, source.label));
}

/** The envelope in some bytes; or several, one a line (in-toto attestation framework, "bundle": JSON Lines). */
function readingsOf(bytes: Uint8Array): SignedDocument['reading'][] {
  const whole = readEnvelope(bytes);
  const lines = Buffer.from(bytes)
    .toString('utf8')
    .split('\n')
    .filter((line) => line.trim() !== '');
  return 'envelope' in whole || lines.length < 2 || lines.length > mostDocuments
    ? [whole]
    : lines.map((line) => readEnvelope(Buffer.from(line)));
}
