/** What stands where a secret stood. */
const mask = '***';
/** Shorter texts occur by chance, and replacing them would garble messages. */
const shortest = 6;

/**
 * The secrets that one run has read. What others say (a registry, a program) goes through
 * {@link redact} before it is repeated: it may repeat a secret.
 */
export class Secrets {
  private readonly known = new Set<string>();

  /** Remembers a secret, and the form in which basic access sends it where a user name is given. Answers the secret. */
  keep(secret: string, username?: string): string {
    if (secret.length >= shortest) {
      this.known.add(secret);
      this.known.add(encodeURIComponent(secret));
    }
    if (username !== undefined) {
      this.known.add(btoa(String.fromCharCode(...new TextEncoder().encode(`${username}:${secret}`))));
    }
    return secret;
  }

  /** A text without the secrets that were read. */
  redact(text: string): string {
    // The longest first: one secret may be the beginning of another.
    const ordered = [...this.known].sort((a, b) => b.length - a.length);
    return ordered.reduce((safe, secret) => safe.replaceAll(secret, mask), text);
  }
}
