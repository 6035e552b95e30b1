import {
  isAlias,
  isCollection,
  isMap,
  isScalar,
  isSeq,
  parse,
  parseAllDocuments,
  visit,
  type Node,
  type Pair,
  type Scalar,
  type YAMLMap,
} from 'yaml';
import type { Obstacle, Range, Spot, Value } from './parts';

/** The parts of a deployment file in which references are looked for. */
export interface Spots {
  /** It was read as documents; else as lines of text. */
  readonly isDocument: boolean;
  readonly spots: readonly Spot[];
  /** Values that are not written as they read, so that nothing in them can be put in the place of something else. */
  readonly obstacles: readonly Obstacle[];
}

/**
 * Finds the parts of a deployment file in which references may stand.
 *
 * @param extension With its dot, in lower case.
 */
export function spotsIn(text: string, extension: string): Spots {
  if (['.yaml', '.yml', '.json'].includes(extension)) {
    const found = documentSpots(text, extension !== '.json');
    if (found !== undefined) {
      return found;
    }
  }
  const spots = withLineComments.includes(extension) ? lineSpots(text) : [{ start: 0, end: text.length }];
  return { isDocument: false, spots, obstacles: [] };
}

/**
 * Whether a changed file reads as before but for what was changed: each document has the same values under the same keys, and
 * those that overlap an edit are texts.
 *
 * @param edits Where the text was changed, in the text as it was.
 */
export function readsTheSame(before: string, after: string, edits: readonly Range[]): boolean {
  const [was, is] = [leavesOf(before), leavesOf(after)];
  const inOrder = [...edits].sort((a, b) => a.start - b.start);
  let next = 0;
  return (
    was !== undefined &&
    was.length === is?.length &&
    was.every((leaf, at) => {
      const now = is[at];
      // Leaves come in the order of the text, and so do edits.
      while ((inOrder[next]?.end ?? Infinity) < leaf.start) {
        next += 1;
      }
      const isEdited = inOrder.slice(next, next + 8).some(({ start, end }) => start <= leaf.end && end >= leaf.start);
      return now?.path === leaf.path && (now.value === leaf.value || (isEdited && typeof now.value === 'string'));
    })
  );
}

interface Leaf extends Range {
  readonly path: string;
  readonly value: unknown;
}

/** Every scalar of documents, with the keys that lead to it; undefined where they cannot be read. */
function leavesOf(text: string): Leaf[] | undefined {
  const leaves: Leaf[] = [];
  for (const document of parsed(text)) {
    if (document.errors.length > 0) {
      return undefined;
    }
    visit(document, {
      Scalar(key, { range, value }, path) {
        const names = path.map((each) => ('key' in each && isScalar(each.key) ? String(each.key.value) : ''));
        const [start = 0, end = 0] = range ?? [];
        // An empty value is written where its key ends.
        leaves.push({
          path: `${names.join('/')} ${String(key)}`,
          value,
          start: start === end ? start - 2 : start,
          end,
        });
      },
    });
  }
  return leaves;
}

/** Formats in which a comment may follow `key = "value"` on its line (TOML; HCL). */
const withLineComments = ['.toml', '.tf', '.hcl', '.nomad'];
const assignment = /^[ \t]*"?([\w.-]+)"?[ \t]*=[ \t]*"([^"\\]*)"/;

/** Every line; of one that only gives a key its value, the value. */
function lineSpots(text: string): readonly Spot[] {
  let start = 0;
  return text.split('\n').map((line): Spot => {
    const begin = start;
    start += line.length + 1;
    const [whole = '', key, value = ''] = assignment.exec(line) ?? [];
    const after = begin + whole.length;
    const comment = key === undefined ? undefined : commentAt(text, after);
    return comment === undefined
      ? { start: begin, end: begin + line.length }
      : { start: after - 1 - value.length, end: after - 1, key, comment };
  });
}

/** Values of the keys that are beside a repository, and say which version is meant. */
const tagKeys = ['tag', 'newTag', 'imageTag'];
const digestKeys = ['digest', 'newDigest'];
/** Keys of the registry that a repository in the same map is in. */
const registryKeys = ['registry', 'imageRegistry'];

/** What a map says of a version, which belongs to a repository in the same map. */
interface Beside {
  readonly tag: readonly [Pair, Value] | undefined;
  readonly digest: readonly [Pair, Value] | undefined;
  readonly registry: readonly [Pair, Value] | undefined;
  readonly hasNewName: boolean;
}

/** Every scalar of YAML or JSON documents; undefined where they cannot be read, as templates cannot. */
function documentSpots(text: string, isYaml: boolean): Spots | undefined {
  const finder = new SpotFinder(text, isYaml);
  for (const document of parsed(text)) {
    if (document.errors.length > 0) {
      return undefined;
    }
    const anchors = new Map<string, Node>();
    visit(document, {
      Node(_, node) {
        if (!isAlias(node) && node.anchor !== undefined) {
          anchors.set(node.anchor, node);
        }
      },
    });
    visit(document, {
      Scalar: (key, node, path) => finder.scalar(key, node, path),
      Map: (_, map) => finder.map(map, anchors),
    });
  }
  return { isDocument: true, spots: finder.spots, obstacles: finder.obstacles };
}

/** Finds what may be pointed in documents, and what stands in the way. */
class SpotFinder {
  readonly spots: Spot[] = [];
  readonly obstacles: Obstacle[] = [];
  private readonly known = new Map<YAMLMap, Beside>();

  constructor(
    private readonly text: string,
    private readonly isYaml: boolean,
  ) {}

  scalar(key: unknown, node: Scalar, path: readonly unknown[]): void {
    const { text, isYaml } = this;
    const range = contentRange(node, text);
    if (range === undefined || typeof node.value !== 'string') {
      return;
    }
    const source = text.slice(range.start, range.end);
    if (key === 'key') {
      this.obstacles.push({ start: range.start, value: node.value, why: 'it is a key' });
      return;
    }
    if (!isAsWritten(node, source)) {
      const why = 'it is written with escapes, or over several lines';
      this.obstacles.push({ start: range.start, value: node.value, insteadOf: source, why });
    }
    const inFlow = path.some((each) => isCollection(each) && each.flow === true);
    this.spots.push({
      ...range,
      ...this.besideOf(path.at(-1), path.at(-2)),
      comment: isYaml && !inFlow && isOnOneLine(node) ? commentAt(text, node.range?.[1] ?? 0) : undefined,
    });
  }

  map(map: YAMLMap, anchors: ReadonlyMap<string, Node>): void {
    const { tag, digest } = this.besideIn(map);
    // What an alias or a merge leads to stands elsewhere, and others may use it.
    if (tag !== undefined || digest !== undefined || map.items.some(isMerge)) {
      this.obstacles.push(...aliasedIn(map, anchors, map.range?.[0] ?? 0));
    }
  }

  /** The key of a value, and the values beside it that say which version is meant. */
  private besideOf(pair: unknown, map: unknown): Pick<Spot, 'key' | 'tag' | 'digest' | 'registry'> {
    const own = isPairOf(pair) && isScalar(pair.key) ? String(pair.key.value) : undefined;
    const beside = own !== undefined && isMap(map) ? this.besideIn(map) : undefined;
    if (beside === undefined || (own === 'name' && beside.hasNewName)) {
      return { key: own };
    }
    const valueOf = (found: readonly [Pair, Value] | undefined): Value | undefined =>
      found === undefined || found[0] === pair ? undefined : found[1];
    const registry = /^(?:repository|image|name)$/.test(own ?? '') ? valueOf(beside.registry) : undefined;
    return { key: own, tag: valueOf(beside.tag), digest: valueOf(beside.digest), registry };
  }

  private besideIn(map: YAMLMap): Beside {
    const found = this.known.get(map) ?? findBeside(map, this.text, this.isYaml);
    this.known.set(map, found);
    return found;
  }
}

/** The values of a component that a map has by aliases and merges, beside those that say its version, here or there. */
function aliasedIn(map: YAMLMap, anchors: ReadonlyMap<string, Node>, start: number): Obstacle[] {
  const versionKeys = [...tagKeys, ...digestKeys];
  const keysOf = (each: YAMLMap): string[] => each.items.map(({ key }) => (isScalar(key) ? String(key.value) : ''));
  const merged = map.items.filter(isMerge).flatMap(({ value }) => {
    const sources = isSeq(value) ? value.items : [value];
    return sources.flatMap((each) => {
      const source = isAlias(each) ? anchors.get(each.source) : each;
      return isMap(source) ? [source] : [];
    });
  });
  const all = [map, ...merged];
  const withVersion = all.filter((each) => keysOf(each).some((key) => versionKeys.includes(key)));
  return all.flatMap((each) =>
    each.items.flatMap(({ value }): Obstacle[] => {
      const target = isAlias(value) ? anchors.get(value.source) : value;
      const isElsewhere = isAlias(value) || withVersion.some((other) => other !== each);
      return isScalar(target) && typeof target.value === 'string' && isElsewhere && withVersion.length > 0
        ? [
            {
              start,
              value: target.value,
              bareOnly: true,
              why: 'its repository or its version stands behind an alias or a merge (<<)',
            },
          ]
        : [];
    }),
  );
}

function isMerge({ key }: Pair): boolean {
  return isScalar(key) && key.value === '<<';
}

function findBeside(map: YAMLMap, text: string, isYaml: boolean): Beside {
  const valueOf = (keys: readonly string[]): readonly [Pair, Value] | undefined => {
    const found = map.items.find(({ key }) => isScalar(key) && keys.includes(String(key.value)));
    return found === undefined ? undefined : [found, valueIn(found, text, isYaml)];
  };
  const hasNewName = map.items.some(({ key }) => isScalar(key) && key.value === 'newName');
  return { tag: valueOf(tagKeys), digest: valueOf(digestKeys), registry: valueOf(registryKeys), hasNewName };
}

/** The value of a pair, and how another is written in its place. */
function valueIn({ key, value }: Pair, text: string, isYaml: boolean): Value {
  const range = isScalar(value) ? contentRange(value, text) : undefined;
  if (!isScalar(value) || range === undefined || isBlock(value)) {
    const start = isScalar(key) ? (key.range?.[0] ?? 0) : 0;
    return { start, end: start, write: undefined };
  }
  if (isQuoted(value)) {
    return { ...range, write: (put) => put };
  }
  if (range.start < range.end) {
    return { ...range, write: isYaml ? plain : JSON.stringify };
  }
  // Nothing is written: right behind the colon there is room for it, before any comment.
  const end = isScalar(key) ? (key.range?.[1] ?? range.start) : range.start;
  const colon = text.indexOf(':', end);
  const at = colon >= 0 && colon < range.start ? colon + 1 : range.start;
  return { start: at, end: at, write: (put) => ` ${plain(put)}` };
}

/** A text as YAML has it without quotes; with quotes where it would be read as something else. */
function plain(text: string): string {
  return parse(text) === text ? text : JSON.stringify(text);
}

function parsed(text: string): ReturnType<typeof parseAllDocuments> {
  try {
    return parseAllDocuments(text, { uniqueKeys: false, merge: false, logLevel: 'silent' });
  } catch (error) {
    // It is nested deeper than anybody writes.
    if (error instanceof RangeError) {
      return [];
    }
    throw error;
  }
}

function isPairOf(value: unknown): value is Pair {
  return typeof value === 'object' && value !== null && 'key' in value && 'value' in value;
}

function isQuoted({ type }: Scalar): boolean {
  return type === 'QUOTE_DOUBLE' || type === 'QUOTE_SINGLE';
}

function isBlock({ type }: Scalar): boolean {
  return type === 'BLOCK_LITERAL' || type === 'BLOCK_FOLDED';
}

function isOnOneLine(node: Scalar): boolean {
  return !isBlock(node);
}

/** Whether a scalar is what its text says, letter by letter; of a block, line by line. */
function isAsWritten(node: Scalar, source: string): boolean {
  return node.value === source || (node.type === 'BLOCK_LITERAL' && typeof node.value === 'string');
}

/** Where the content of a scalar stands: without its quotes, and without the header of a block. */
function contentRange(node: Scalar, text: string): Range | undefined {
  if (!node.range) {
    return undefined;
  }
  const [start, end] = node.range;
  if (isQuoted(node)) {
    return { start: start + 1, end: Math.max(start + 1, end - 1) };
  }
  if (isBlock(node)) {
    const line = text.indexOf('\n', start);
    return { start: line < 0 || line >= end ? end : line + 1, end };
  }
  return { start, end };
}

/** Where a comment follows on a line, or may; undefined where something else follows. */
function commentAt(text: string, end: number): Spot['comment'] {
  const found = /^([ \t]*)(#[^\r\n]*)?(?=\r?\n|$)/.exec(text.slice(end, end + 4096));
  if (found === null) {
    return undefined;
  }
  const [, space = '', comment] = found;
  if (comment === undefined) {
    return { start: end, end, text: undefined };
  }
  const start = end + space.length + 1;
  return { start, end: start + comment.length - 1, text: comment.slice(1) };
}
