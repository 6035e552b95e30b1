/**
 * Takes from an environment what lets git write down all that it does, on standard error or into files: URLs and headers in
 * it can hold logins.
 */
export function withoutTracing(): Record<string, undefined> {
  const names = Object.keys(process.env).filter((name) => /^GIT_(TRACE|CURL_VERBOSE|REDACT_COOKIES)/.test(name));
  return Object.fromEntries(names.map((name) => [name, undefined]));
}
