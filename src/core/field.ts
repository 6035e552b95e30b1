import { HodError } from './errors';
import { similarNames } from './nearest';

/** Keys that say what an element of a list is about, so that a path can name it. */
const naming = [
  'component',
  'environment',
  'platform',
  'tag',
  'name',
  'registry',
  'repository',
  'gate',
  'config',
  'path',
  'product',
];

/**
 * What a path leads to in a document: `version`, `components.timetable.digest`, `platforms[0].size`. A name after a list is that
 * of an element, or a key that all elements have; then there is one line for each. Nothing (`null`) is an empty line.
 *
 * Throws `field-unknown`, with what is there.
 */
export function fieldOf(document: object, path: string): string[] {
  let found: unknown[] = [document];
  let way = '';
  for (const segment of segmentsOf(path)) {
    found = found.flatMap((value) => step(value, segment, way, path));
    way += typeof segment === 'number' ? `[${segment}]` : way === '' ? segment : `.${segment}`;
  }
  return found.flatMap((value): unknown[] => (Array.isArray(value) ? value : [value])).map(printed);
}

/** `a.b[0]`, as its parts. A name with a dot in it stands between quotes: `tags."2.4.0".digest`. */
function segmentsOf(path: string): (string | number)[] {
  const segments: (string | number)[] = [];
  const grammar = /\s*\.?(?:\[(\d+)\]|"([^"]*)"|([^.[\]"]+))/y;
  while (grammar.lastIndex < path.length) {
    const from = grammar.lastIndex;
    const match = grammar.exec(path);
    if (match === null) {
      throw unknown(
        path,
        `it cannot be read from ${JSON.stringify(path.slice(from))} on`,
        'write it as components.timetable.digest or platforms[0].size',
      );
    }
    const [, index, quoted, name] = match;
    segments.push(index === undefined ? (quoted ?? name ?? '') : Number(index));
  }
  return segments;
}

function step(value: unknown, segment: string | number, way: string, path: string): unknown[] {
  const here = way === '' ? 'the document' : way;
  if (Array.isArray(value)) {
    const elements: unknown[] = value;
    if (typeof segment === 'number') {
      if (segment >= elements.length) {
        throw unknown(path, `${here} has ${elements.length} elements, counted from 0`, 'name one of them');
      }
      return [elements[segment]];
    }
    const named = elements.filter((element) => namesOf(element).includes(segment));
    if (named.length > 0) {
      return named;
    }
    if (elements.length === 0 || elements.every((element) => isObject(element) && Object.hasOwn(element, segment))) {
      return elements.map((element) => (isObject(element) ? element[segment] : undefined));
    }
    const keys = [
      ...new Set(
        elements.flatMap((element) => (isObject(element) ? [...namesOf(element), ...Object.keys(element)] : [])),
      ),
    ];
    throw unknown(path, `no element of ${here} is called ${segment}, nor has such a key`, similarNames(segment, keys));
  }
  if (isObject(value) && typeof segment === 'string' && Object.hasOwn(value, segment)) {
    return [value[segment]];
  }
  const keys = isObject(value) ? Object.keys(value) : [];
  throw unknown(
    path,
    keys.length === 0 ? `${here} has nothing below it` : `${here} has no ${String(segment)}`,
    keys.length === 0 ? 'end the path there' : similarNames(String(segment), keys),
  );
}

function namesOf(element: unknown): string[] {
  if (!isObject(element)) {
    return [];
  }
  const first = naming.map((key) => element[key]).find((value) => typeof value === 'string');
  return typeof first === 'string' ? [first] : [];
}

function isObject(value: unknown): value is Record<string, unknown> {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}

/** A value as a script takes it: a text bare, and anything that is no text or number as JSON. */
function printed(value: unknown): string {
  if (value === null || value === undefined) {
    return '';
  }
  return typeof value === 'string' ? value : JSON.stringify(value);
}

function unknown(path: string, why: string, next: string): HodError {
  return new HodError('field-unknown', {
    what: 'the answer has no such field',
    object: `--field ${path}`,
    why,
    next: `${next}; the work itself was done, and --json prints all of it`,
  });
}
