import type { Timestamp } from '../time';

/** A text, and a signature over it (OpenSSH, PROTOCOL.sshsig). */
export interface SignedText {
  readonly text: string;
  /** What it was made for: a signature for anything else is none. */
  readonly namespace: string;
  readonly signature: string;
  readonly at: Timestamp;
  /** Lines of a file of allowed signers. */
  readonly people: readonly string[];
}

/** Who made a signature, by their SSH key; or why it does not count. */
export type Signer =
  { readonly by: string; readonly problem?: undefined } | { readonly by?: undefined; readonly problem: string };
