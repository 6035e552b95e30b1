import type { Secrets } from './secrets';

/** What proves to a registry who we are. */
export type Credential =
  | { readonly kind: 'password'; readonly username: string; readonly password: string }
  /** Issued by a token service for a while; registries exchange it for access tokens. */
  | { readonly kind: 'token'; readonly token: string };

/** Remembers what is secret of a credential. Answers the credential. */
export function keepCredential(credential: Credential, registry: string, secrets: Secrets): Credential {
  if (credential.kind === 'token') {
    secrets.keep(credential.token, registry, 'token');
  } else {
    secrets.keep(credential.password, registry, credential.username);
  }
  return credential;
}
