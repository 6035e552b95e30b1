import * as z from 'zod';
import { issuesToText, readJson } from '../json';

/** A signature over the payload of an envelope. */
export interface EnvelopeSignature {
  readonly signature: Uint8Array;
  /** Certificates that lead from the signer's key to an authority, the signer's first, in PEM. */
  readonly certificates?: string | undefined;
}

/** Something that was signed, and its signatures (DSSE: Dead Simple Signing Envelope, v1). */
export interface Envelope {
  readonly payloadType: string;
  readonly payload: Uint8Array;
  readonly signatures: readonly EnvelopeSignature[];
}

/** What is signed, and its media type. */
export type SignedPayload = Pick<Envelope, 'payloadType' | 'payload'>;

/**
 * Each signature costs a check with each trusted key.
 * @limit signatures of one envelope | signatures | the envelope does not count
 */
const mostSignatures = 20;

/** Base64, standard or URL-safe (RFC 4648 §4, §5): a reader of DSSE takes both. */
const base64 = z
  .string()
  .regex(/^[A-Za-z0-9+/_-]*={0,2}$/, 'must be base64')
  .transform((text): Uint8Array => Buffer.from(text, 'base64'));

// Other keys may stand beside these, and are not read: no signature covers them.
const envelopeSchema = z.object({
  payloadType: z.string().min(1),
  payload: base64,
  signatures: z
    .array(z.object({ sig: base64, cert: z.string().optional() }))
    .min(1, 'has no signature')
    .max(mostSignatures, `has more than ${mostSignatures} signatures`),
});

/** Reads an envelope, or says why some bytes are none. A key that stands twice in it is refused. */
export function readEnvelope(bytes: Uint8Array): { readonly envelope: Envelope } | { readonly problem: string } {
  const { object, problem } = readJson(bytes);
  if (object === undefined) {
    return { problem };
  }
  const parsed = envelopeSchema.safeParse(object);
  if (!parsed.success) {
    return { problem: issuesToText(parsed.error) };
  }
  const { payloadType, payload, signatures } = parsed.data;
  return {
    envelope: {
      payloadType,
      payload,
      signatures: signatures.map(({ sig, cert }) => ({ signature: sig, certificates: cert })),
    },
  };
}

/** Returns an envelope with one signature, in base64, as a JSON document. */
export function envelopeDocument({ payloadType, payload }: SignedPayload, signature: string): object {
  return { payloadType, payload: Buffer.from(payload).toString('base64'), signatures: [{ sig: signature }] };
}

/** Returns what is signed of a payload and its type: the pre-authentication encoding of DSSE v1. */
export function signedBytes({ payloadType, payload }: SignedPayload): Uint8Array {
  const type = Buffer.from(payloadType);
  return Buffer.concat([Buffer.from(`DSSEv1 ${type.length} `), type, Buffer.from(` ${payload.length} `), payload]);
}
