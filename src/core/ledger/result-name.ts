/** Whether a text can name a result. */
export function isResultName(text: string): boolean {
  return /^[a-z0-9][a-z0-9._-]{0,63}$/.test(text);
}
