import * as z from 'zod';

/**
 * Builders write no deeper document; a deeper one exhausts the reader.
 * @limit nesting of a JSON document | levels | exit 7
 */
const depthLimit = 64;

/** A JSON object, or why some bytes are not one. */
export type JsonReading =
  | { readonly object: Record<string, unknown>; readonly problem: undefined }
  | { readonly object: undefined; readonly problem: string };

const objectSchema = z.custom<Record<string, unknown>>(
  (value) => typeof value === 'object' && value !== null && !Array.isArray(value),
);

/**
 * Reads a JSON object from bytes (UTF-8). A key that stands twice in one object is refused: two
 * readers would understand such a document differently (RFC 8259 §4).
 */
export function readJson(bytes: Uint8Array): JsonReading {
  const { value, problem } = readJsonValue(bytes);
  const object = objectSchema.safeParse(value).data;
  return object === undefined
    ? { object, problem: problem ?? 'it is not a JSON object' }
    : { object, problem: undefined };
}

/** Reads a JSON document of any kind as {@link readJson} reads an object; `value` is undefined where it cannot. */
export function readJsonValue(bytes: Uint8Array): { readonly value: unknown; readonly problem: string | undefined } {
  try {
    const text = new TextDecoder('utf-8', { fatal: true }).decode(bytes);
    const value: unknown = JSON.parse(text);
    const problem = structureProblem(text);
    return { value: problem === undefined ? value : undefined, problem };
  } catch {
    return { value: undefined, problem: 'it is not JSON' };
  }
}

/** A JSON object from bytes (UTF-8), or undefined where they are not one, or one that {@link readJson} refuses. */
export function parseJson(bytes: Uint8Array): Record<string, unknown> | undefined {
  return readJson(bytes).object;
}

/** What is wrong with the structure of a text that is JSON: a key that stands twice, or too many levels. */
function structureProblem(text: string): string | undefined {
  const tokens = /"(?:[^"\\]|\\.)*"|[{}[\],]/gs;
  /** The keys of each open object; undefined for an array. */
  const open: (Set<string> | undefined)[] = [];
  let keyNext = false;
  for (const [token] of text.matchAll(tokens)) {
    const keys = open.at(-1);
    switch (token) {
      case '{':
      case '[':
        open.push(token === '{' ? new Set() : undefined);
        keyNext = token === '{';
        if (open.length > depthLimit) {
          return `it is nested deeper than ${depthLimit} levels`;
        }
        break;
      case '}':
      case ']':
        open.pop();
        keyNext = false;
        break;
      case ',':
        keyNext = keys !== undefined;
        break;
      default:
        if (keyNext && keys !== undefined) {
          const key = String(JSON.parse(token));
          if (keys.has(key)) {
            return `the key ${JSON.stringify(key)} stands in it twice`;
          }
          keys.add(key);
          keyNext = false;
        }
    }
  }
  return undefined;
}

/** Returns a JSON value in which every text is changed; the keys stay as they are. */
export function mapTexts(value: unknown, change: (text: string) => string): unknown {
  if (typeof value === 'string') {
    return change(value);
  }
  if (Array.isArray(value)) {
    return value.map((each) => mapTexts(each, change));
  }
  const object = objectSchema.safeParse(value).data;
  return object === undefined
    ? value
    : Object.fromEntries(Object.entries(object).map(([key, each]) => [key, mapTexts(each, change)]));
}

/** A record under names from outside, as a map: there, a name such as `constructor` is one like any other. */
export function mapOf<T>(value: z.ZodType<T>) {
  return z.preprocess(
    (given) => {
      const object = objectSchema.safeParse(given).data;
      return object === undefined ? given : new Map(Object.entries(object));
    },
    z.map(z.string(), value),
  );
}

const anyMap = mapOf(z.unknown());

/** Returns the value in a JSON document that keys lead to, with dots between them (`session.token`); undefined where there is none. */
export function valueAt(document: unknown, path: string): unknown {
  return path.split('.').reduce<unknown>((here, key) => anyMap.safeParse(here).data?.get(key), document);
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
