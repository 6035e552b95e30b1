/** Names of variables whose values are not for everybody's eyes. */
const secretNames = /pass(word|wd|phrase)?|secret|token|credential|api_?key|private_?key|access_?key|auth/i;
/** A URL with a password in it. */
const withPassword = /^[a-z][a-z0-9+.-]*:\/\/[^/\s:@]+:[^/\s@]+@/i;

/** Whether a variable of an image looks as if its value were a secret. */
export function looksLikeSecret(name: string, value: string): boolean {
  return value !== '' && (secretNames.test(name) || withPassword.test(value));
}
