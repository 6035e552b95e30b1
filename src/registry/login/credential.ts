import type { Credential } from '../../core/access/credential';
import type { Wires } from '../../http/wires';

/** Where a login came from, for whoever is told that it was refused. */
export interface CredentialOrigin {
  /** What it is called: `the stored login of una`. */
  readonly name: string;
  /** What to do where it is refused. */
  readonly next: string;
}

/** A credential, and until when it is good; for good where that is not said. */
export interface ObtainedCredential {
  readonly credential: Credential;
  readonly expires: Date | undefined;
  readonly origin: CredentialOrigin;
}

/**
 * Where the credential for one registry comes from. Asked when the registry first wants one, and
 * again when it has run out; a source that must ask somebody else does it over a wire it is given.
 * Answers undefined where there is none.
 */
export type CredentialSource = (wires: Wires) => Promise<ObtainedCredential | undefined>;

/** The value of `Authorization` for basic access (RFC 7617). */
export function basicHeader(credential: Credential): string {
  const { username, password } =
    credential.kind === 'password' ? credential : { username: 'token', password: credential.token };
  return `Basic ${Buffer.from(`${username}:${password}`).toString('base64')}`;
}

/** Whether a token can stand in a header (RFC 6750 §2.1; some services issue more than that grammar has). */
export function isSendable(token: string): boolean {
  return /^[\x21-\x7e]+$/.test(token);
}
