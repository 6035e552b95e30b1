import type { TrustRules } from './trust-rules';

/** The keys and authorities whose signatures count. */
export type TrustedSigners = Pick<TrustRules, 'keys' | 'authorities'>;

/** Signs what a run records, with the key of `sign:` in hod.yaml. */
export interface RecordSigner {
  /**
   * Reads the key before hours of work rely on it, where that takes nothing but a look.
   *
   * @throws `signing-failed`, `credential-missing`
   */
  prepare(): Promise<void>;
  /**
   * Signs a message. Returns the signature in base64, checked: it counts under `trust`.
   *
   * @throws `signing-failed`
   */
  sign(message: Uint8Array): Promise<string>;
  /** Whose signatures count. */
  readonly trust: TrustedSigners;
}
