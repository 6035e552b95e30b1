import { hashLetters, placeholdersOf, type Placeholder, type Template } from './template';

const digits = '0123456789';
const hexadecimal = `${digits}abcdef`;
const letters = 'abcdefghijklmnopqrstuvwxyz';
const any = `${digits}${letters}${letters.toUpperCase()}._-`;

/** One character of a tag, or several of the same kind behind each other. */
interface Piece {
  /** The characters that may stand there. */
  readonly of: string;
  readonly repeats: boolean;
  readonly optional: boolean;
}

/** The tags that a rule may give to one component, as a row of pieces. */
export type TagForm = readonly Piece[];

const one = (of: string): Piece => ({ of, repeats: false, optional: false });
const several = (of: string): Piece => ({ of, repeats: true, optional: false });
const anything: Piece = { of: any, repeats: true, optional: true };

/** The hash that follows where something was lost. */
const hash: TagForm = ['-', ...Array.from({ length: 6 }, () => hashLetters)].map((of) => ({
  of,
  repeats: false,
  optional: true,
}));

/** What may stand for each placeholder; more than does, where that is simpler. */
const forms: Readonly<Record<Exclude<Placeholder, 'image' | 'product'>, TagForm>> = {
  commit: [several(hexadecimal)],
  digest: [several(hexadecimal)],
  version: [several(digits), one('.'), several(digits), one('.'), several(digits), anything],
  major: [several(digits)],
  minor: [several(digits)],
  patch: [several(digits)],
  branch: [several(any)],
  build: [several(any)],
  date: [several(digits)],
  platform: [several(`${letters}${digits}._-`)],
};

/** Returns the tags that a rule may give to a component. */
export function tagForm(
  template: Template,
  { component, product }: { readonly component: string; readonly product: string },
): TagForm {
  const pieces = template.parts.flatMap((part): TagForm => {
    if (typeof part === 'string') {
      return literal(part);
    }
    if (part.name === 'image' || part.name === 'product') {
      return literal(part.name === 'image' ? component : product);
    }
    return part.length === undefined ? forms[part.name] : Array.from({ length: part.length }, () => one(hexadecimal));
  });
  // Where a tag cannot hold what a rule says, or a branch or a build is called, a hash follows.
  const own = placeholdersOf(template);
  const isExact = template.parts.every((part) => typeof part !== 'string' || Array.from(part).every(mayStand));
  return own.includes('branch') || own.includes('build') || !isExact ? [...pieces, ...hash] : pieces;
}

const mayStand = (character: string): boolean => any.includes(character);

/** Returns one tag as a form. */
export function literal(text: string): TagForm {
  return Array.from(text).map((character) => one(mayStand(character) ? character : '-'));
}

/** Returns a tag that two forms have in common; undefined where there is none. */
export function commonTag(a: TagForm, b: TagForm): string | undefined {
  const seen = new Set<string>();
  let ways: readonly Way[] = [{ at: 0, other: 0, text: '' }];
  // Each round is one character longer: the shortest tag comes first.
  while (ways.length > 0) {
    const here = ways
      .flatMap((way) => withSkips(way, a, b))
      .filter(({ at, other }) => {
        const key = `${at} ${other}`;
        const isNew = !seen.has(key);
        seen.add(key);
        return isNew;
      });
    const whole = here.find(({ at, other }) => at === a.length && other === b.length);
    if (whole !== undefined) {
      return whole.text;
    }
    ways = here.flatMap((way) => oneFurther(way, a[way.at], b[way.other]));
  }
  return undefined;
}

/** How far each of two forms has come, and the tag until there. */
interface Way {
  readonly at: number;
  readonly other: number;
  readonly text: string;
}

/** The same way, and those past pieces that need not be there. */
function withSkips(way: Way, a: TagForm, b: TagForm): Way[] {
  const { at, other, text } = way;
  return [
    way,
    ...(a[at]?.optional === true ? withSkips({ at: at + 1, other, text }, a, b) : []),
    ...(b[other]?.optional === true ? withSkips({ at, other: other + 1, text }, a, b) : []),
  ];
}

function oneFurther({ at, other, text }: Way, piece: Piece | undefined, twin: Piece | undefined): Way[] {
  const shared = piece && twin && Array.from(piece.of).find((character) => twin.of.includes(character));
  if (piece === undefined || twin === undefined || shared === undefined) {
    return [];
  }
  const here = piece.repeats ? [at, at + 1] : [at + 1];
  const there = twin.repeats ? [other, other + 1] : [other + 1];
  return here.flatMap((next) => there.map((after) => ({ at: next, other: after, text: text + shared })));
}
