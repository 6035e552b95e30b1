import * as z from 'zod';
import { timestampSchema } from '../time';

/** The kinds of keys that count. The key alone decides how a signature is checked; what a document says of it does not. */
export const keyKinds = ['Ed25519', 'ECDSA P-256', 'ECDSA P-384', 'RSA-PSS'] as const;
export type KeyKind = (typeof keyKinds)[number];

const texts = z.array(z.string()).readonly();

/** Whom an environment trusts: the keys themselves, not the files that they were read from. */
export const trustRulesSchema = z
  .object({
    /** Public keys; a name has several while one replaces another. */
    keys: z
      .array(
        z
          .object({
            name: z.string(),
            kind: z.enum(keyKinds),
            /** SubjectPublicKeyInfo, base64. */
            der: z.string(),
            /** The key counts for what was signed in this time. */
            from: timestampSchema.optional(),
            until: timestampSchema.optional(),
          })
          .readonly(),
      )
      .readonly(),
    /** Authorities whose certificates lead to the keys of signers, and the names that count. */
    authorities: z.array(z.object({ name: z.string(), certificates: z.string(), names: texts }).readonly()).readonly(),
    /** Who gives jobs their identity, and which jobs count. */
    issuers: z
      .array(z.object({ name: z.string(), url: z.string(), audience: z.string(), subjects: texts }).readonly())
      .readonly()
      .optional(),
    /** The SSH keys of people, as lines of a file of allowed signers. */
    people: texts,
  })
  .readonly();

/** Whom an environment trusts. */
export type TrustRules = z.infer<typeof trustRulesSchema>;
export type TrustedKey = TrustRules['keys'][number];
export type TrustedIssuer = NonNullable<TrustRules['issuers']>[number];
export type TrustedAuthority = TrustRules['authorities'][number];

/** Trusts nobody. */
export const trustsNobody: TrustRules = { keys: [], authorities: [], people: [] };
