import { atMost } from '../../core/bytes';
import { verified, type ContentNode } from '../../core/oci/content';
import type { Descriptor } from '../../core/oci/descriptor';
import { typeOf } from '../../core/oci/referrers';
import type { SignedDocument } from '../../core/release/gates/attested';
import { readEnvelope } from '../../core/trust/dsse';
import { readUnlessGone, type Referrer } from './find';

/** Media types of signed documents: envelopes of DSSE, and statements of in-toto, which stand in such envelopes. */
const signedType = /(^|[^a-z])(dsse|in-toto)([^a-z]|$)/;
/** A document is as large as any JSON document that Hod reads. */
const most = 4 * 1024 * 1024;
/** So many documents one referrer may hold, in layers and, one a line, in each. */
const mostDocuments = 100;

/** Reads the signed documents among the referrers of a component. Others, such as bills of materials, are not read. */
export async function readSignedDocuments(referrers: readonly Referrer[]): Promise<SignedDocument[]> {
  const read = await Promise.all(
    referrers.map(async (each) => {
      const node = await readUnlessGone(each);
      return node === undefined ? [] : documentsIn(each, node);
    }),
  );
  return read.flat();
}

/** Reads the signed documents that a referrer holds. */
export async function documentsIn(
  { digest: referrer, subject }: Pick<Referrer, 'digest' | 'subject'>,
  { manifest, source }: ContentNode,
): Promise<SignedDocument[]> {
  if (manifest.kind === 'index') {
    return [];
  }
  const isSigned = signedType.test(typeOf(manifest));
  const layers = manifest.layers.filter(({ mediaType }) => isSigned || signedType.test(mediaType));
  const readings = await Promise.all(
    layers.slice(0, mostDocuments).map(async (layer) => readingsOf(await bytesOf(layer, source), layer)),
  );
  return readings.flat().map((reading) => ({ referrer, subject, reading }));
}

async function bytesOf(layer: Descriptor, source: ContentNode['source']): Promise<Uint8Array | undefined> {
  return layer.size > most ? undefined : atMost(most, verified(await source.openBlob(layer), layer, source.label));
}

/** The envelope in some bytes; or several, one a line (in-toto attestation framework, "bundle": JSON Lines). */
function readingsOf(bytes: Uint8Array | undefined, { size }: Descriptor): SignedDocument['reading'][] {
  if (bytes === undefined) {
    return [{ problem: `it has ${size} bytes, and at most ${most} are read` }];
  }
  const whole = readEnvelope(bytes);
  const lines = Buffer.from(bytes)
    .toString('utf8')
    .split('\n')
    .filter((line) => line.trim() !== '');
  return 'envelope' in whole || lines.length < 2 || lines.length > mostDocuments
    ? [whole]
    : lines.map((line) => readEnvelope(Buffer.from(line)));
}
