/**
 * Every secret that this process has read. What is printed goes through {@link redact}: the last
 * guard, for the case that a registry or a program repeats a secret in its own message.
 */
const known = new Set<string>();
/** Shorter texts occur by chance, and replacing them would garble messages. */
const shortest = 6;

/** Remembers a secret, and the form in which basic access sends it where a user name is given. Answers the secret. */
export function keepSecret(secret: string, username?: string): string {
  if (secret.length >= shortest) {
    known.add(secret);
    known.add(encodeURIComponent(secret));
  }
  if (username !== undefined) {
    known.add(btoa(String.fromCharCode(...new TextEncoder().encode(`${username}:${secret}`))));
  }
  return secret;
}

/** A text without the secrets that were read. */
export function redact(text: string): string {
  let safe = text;
  for (const secret of known) {
    safe = safe.replaceAll(secret, '***');
  }
  return safe;
}
