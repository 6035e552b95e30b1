import { randomBytes } from 'node:crypto';

/** A secret that must not be found anywhere but where it belongs. */
export interface Canary {
  readonly value: string;
  /** The hosts that it may be sent to. */
  readonly owners: readonly string[];
}

/** A password with everything in it that an encoding changes. */
export function passwordCanary(...owners: string[]): Canary {
  return { value: `gull"${randomBytes(6).toString('hex')}+ü/%!`, owners };
}

/** A secret that may stand in a header: a token. */
export function tokenCanary(...owners: string[]): Canary {
  return { value: `tern.${randomBytes(12).toString('hex')}`, owners };
}

/** Whether a text (its bytes, as latin-1) holds a secret, in any usual encoding. */
export function holds(text: string, { value }: Canary): string | undefined {
  const bytes = Buffer.from(value);
  const latin = bytes.toString('latin1');
  const json = JSON.stringify(value).slice(1, -1);
  const ascii = json.replace(/[^ -~]/g, (each) => `\\u${each.charCodeAt(0).toString(16).padStart(4, '0')}`);
  const percent = encodeURIComponent(value);
  const forms: readonly [string, string][] = [
    ['as it is', latin],
    ['in JSON', Buffer.from(json).toString('latin1')],
    ['in ASCII JSON', ascii],
    ['in HTML', latin.replace(/"/g, '&quot;')],
    ['percent-encoded', percent],
    ['percent-encoded, all of it', [...bytes].map((byte) => `%${byte.toString(16).padStart(2, '0')}`).join('')],
    ['form-encoded', new URLSearchParams({ s: value }).toString().slice(2)],
    ['hex', bytes.toString('hex')],
    ...[0, 1, 2].flatMap((shift): [string, string][] => {
      const digits = Buffer.concat([Buffer.alloc(shift), bytes]).toString('base64');
      // Only the digits that nothing but the secret decides.
      const sure = digits.slice(Math.ceil((shift * 8) / 6), Math.floor(((shift + bytes.length) * 8) / 6));
      return [
        [`base64 at ${shift}`, sure],
        [`base64url at ${shift}`, sure.replaceAll('+', '-').replaceAll('/', '_')],
      ];
    }),
  ];
  const lower = text.toLowerCase();
  return forms.find(([, form]) => text.includes(form) || lower.includes(form.toLowerCase()))?.[0];
}
