/** What stands where a secret stood. */
const mask = '***';
/** Shorter texts occur by chance, and replacing them would garble messages. */
const shortest = 6;
/** Nothing but letters, few enough to be a word: `timetable`, `Production`. */
const plainWord = /^(?:[a-z]{1,10}|[A-Z][a-z]{1,9}|[A-Z]{1,10}|\d{1,8})$/;

/**
 * The secrets that one run has read. What others say (a registry, a program) goes through
 * {@link redact} before it is repeated: it may repeat a secret, in any of the forms in which it was
 * sent. Our own documents are made of values that hold none, and are never searched.
 */
export class Secrets {
  private readonly forms = new Set<string>();
  private readonly weak = new Set<string>();

  /** What the secrets are for that are not searched for, because they occur in other texts by chance. */
  get unsearchable(): readonly string[] {
    return [...this.weak];
  }

  /**
   * Remembers a secret, and the form in which basic access sends it where a user name is given.
   * Answers the secret.
   *
   * @param purpose What it is for, such as the host of a registry.
   */
  keep(secret: string, purpose: string, username?: string): string {
    if (secret.length < shortest || plainWord.test(secret)) {
      this.weak.add(purpose);
    } else {
      formsOf(secret).forEach((form) => this.forms.add(form));
    }
    if (username !== undefined) {
      const bytes = new TextEncoder().encode(`${username}:${secret}`);
      [base64Of(bytes), urlBase64Of(bytes)].forEach((form) => this.forms.add(form));
    }
    return secret;
  }

  /** A text without the secrets that were read. Where they overlap, nothing of either is left. */
  redact(text: string): string {
    const spans: [from: number, to: number][] = [];
    for (const form of this.forms) {
      for (let at = text.indexOf(form); at >= 0; at = text.indexOf(form, at + 1)) {
        spans.push([at, at + form.length]);
      }
    }
    spans.sort(([a], [b]) => a - b);
    let safe = '';
    let end = 0;
    for (const [from, to] of spans) {
      if (from >= end) {
        safe += text.slice(end, from) + mask;
      }
      end = Math.max(end, to);
    }
    return safe + text.slice(end);
  }
}

/** A secret in every form in which others may repeat it: as text, and as JSON, URLs, forms, hexadecimal and base64 write it. */
function formsOf(secret: string): string[] {
  const bytes = new TextEncoder().encode(secret);
  const json = JSON.stringify(secret).slice(1, -1);
  // Half a pair is sent, and repeated, as the character that stands for what is none.
  const whole = new TextDecoder().decode(bytes);
  const url = encodeURIComponent(whole);
  const strict = url.replace(/[!'()*]/g, (character) => `%${character.charCodeAt(0).toString(16).toUpperCase()}`);
  const form = new URLSearchParams([['', secret]]).toString().slice(1);
  const pairs = [...bytes].map((byte) => byte.toString(16).padStart(2, '0'));
  const hex = pairs.join('');
  const percent = pairs.map((pair) => `%${pair}`).join('');
  return [
    secret,
    whole,
    json,
    json.replaceAll('/', '\\/'),
    ...[url, strict, form, encodeURI(whole)].flatMap((each) => [each, lowerEscapes(each)]),
    ...[percent, hex].flatMap((each) => [each, each.toUpperCase()]),
    ...base64Within(bytes),
    secret.replaceAll('&', '&amp;').replaceAll('<', '&lt;').replaceAll('>', '&gt;').replaceAll('"', '&quot;'),
  ];
}

function lowerEscapes(text: string): string {
  return text.replace(/%[0-9A-F]{2}/g, (escape) => escape.toLowerCase());
}

/** What base64 makes of bytes, alone or in the middle of others: the digits that they alone decide. */
function base64Within(bytes: Uint8Array): string[] {
  return [0, 1, 2].flatMap((shift) => {
    const shifted = new Uint8Array(shift + bytes.length);
    shifted.set(bytes, shift);
    const from = Math.ceil((shift * 8) / 6);
    const to = Math.floor(((shift + bytes.length) * 8) / 6);
    return [base64Of(shifted), urlBase64Of(shifted)].map((digits) => digits.slice(from, to));
  });
}

function base64Of(bytes: Uint8Array): string {
  return btoa(String.fromCharCode(...bytes));
}

function urlBase64Of(bytes: Uint8Array): string {
  return base64Of(bytes).replaceAll('+', '-').replaceAll('/', '_').replace(/=+$/, '');
}
