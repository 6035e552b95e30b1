import * as z from 'zod';

/** A JSON object from bytes (UTF-8), or undefined where they are not one. */
export function parseJson(bytes: Uint8Array): Record<string, unknown> | undefined {
  try {
    const value: unknown = JSON.parse(new TextDecoder('utf-8', { fatal: true }).decode(bytes));
    return z.record(z.string(), z.unknown()).safeParse(value).data;
  } catch {
    return undefined;
  }
}

/** The issues of a failed validation, one after the other: `layers[0].size must be …`. */
export function issuesToText(error: z.ZodError): string {
  return error.issues
    .map((issue) => {
      const path = issue.path.map((key) => (typeof key === 'number' ? `[${key}]` : `.${String(key)}`)).join('');
      return `${path.replace(/^\./, '') || 'the document'}: ${issue.message}`;
    })
    .join('; ');
}
