import { extname } from 'node:path';
import { realpath } from 'node:fs/promises';
import { isMap, isScalar, parseAllDocuments, visit, type Pair, type Scalar } from 'yaml';
import type { Range, Spot } from '../core/deployment/pointing';
import { HodError } from '../core/errors';
import { NotWritten, writeTogether } from '../system/write-file';
import { fileUnusable, readSmallFile } from './files';

/** A deployment file: its text, and the parts of it in which references may stand. */
export interface DeploymentFile {
  readonly text: string;
  readonly spots: readonly Spot[];
  /** The file that its path leads to, what is in it, and how that is read as text. */
  readonly path: string;
  readonly bytes: Uint8Array;
  readonly encoding: 'utf8' | 'latin1';
}

/** Reads a deployment file. Throws `file-unusable`. */
export async function readDeploymentFile(path: string): Promise<DeploymentFile> {
  try {
    const file = await realpath(path);
    const bytes = await readSmallFile(file);
    // What is no UTF-8 keeps its bytes in latin-1: references are ASCII in both.
    const encoding = isUtf8(bytes) ? 'utf8' : 'latin1';
    const text = bytes.toString(encoding);
    return { text, spots: spotsIn(text, extname(path).toLowerCase()), path: file, bytes, encoding };
  } catch (error) {
    throw fileUnusable(path, error);
  }
}

/**
 * Writes other texts in the place of deployment files, all or none.
 *
 * @throws `file-unusable`, which says what was written and what was not.
 */
export async function writeDeploymentFiles(
  changes: readonly { readonly file: DeploymentFile; readonly text: string }[],
): Promise<void> {
  // Two paths may lead to one file.
  const files = new Map(
    changes.map(({ file: { path, bytes, encoding }, text }) => {
      return [path, { path, was: bytes, content: Buffer.from(text, encoding) }];
    }),
  );
  try {
    await writeTogether([...files.values()]);
  } catch (error) {
    if (!(error instanceof NotWritten)) {
      throw error;
    }
    const { failed, written } = error;
    const others = [...files.keys()].filter((path) => path !== failed && !written.includes(path));
    throw new HodError(
      'file-unusable',
      {
        what: written.length === 0 ? 'the files were not written' : 'not all files were written',
        object: failed,
        why: error.message,
        next: [
          written.length === 0 ? 'no file was changed' : `changed already: ${written.join(', ')}`,
          ...(others.length === 0 || written.length === 0 ? [] : [`not changed: ${others.join(', ')}`]),
          'mend that, and run the command again',
        ].join('; '),
      },
      { cause: error },
    );
  }
}

function isUtf8(bytes: Buffer): boolean {
  try {
    new TextDecoder('utf-8', { fatal: true, ignoreBOM: true }).decode(bytes);
    return true;
  } catch {
    return false;
  }
}

/** Values of the keys that are beside a repository, and say which version is meant. */
const tagKeys = ['tag', 'newTag', 'imageTag'];
const digestKeys = ['digest', 'newDigest'];

function spotsIn(text: string, extension: string): readonly Spot[] {
  if (['.yaml', '.yml', '.json'].includes(extension)) {
    const spots = documentSpots(text, extension !== '.json');
    if (spots !== undefined) {
      return spots;
    }
  }
  return withLineComments.includes(extension) ? lineSpots(text) : [{ start: 0, end: text.length }];
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

/** Every scalar of YAML or JSON documents; undefined where they cannot be read, as templates cannot. */
function documentSpots(text: string, withComments: boolean): readonly Spot[] | undefined {
  const documents = parsed(text);
  const spots: Spot[] = [];
  for (const document of documents) {
    if (document.errors.length > 0) {
      return undefined;
    }
    visit(document, {
      Scalar(key, node, path) {
        const range = contentRange(node);
        if (key === 'key' || range === undefined) {
          return;
        }
        const pair = path.at(-1);
        const beside = path.at(-2);
        const inFlow = path.some((each) => 'flow' in each && each.flow);
        const own = isPairOf(pair) && isScalar(pair.key) ? String(pair.key.value) : undefined;
        const siblings = own !== undefined && isMap(beside) ? beside.items : [];
        const valueOf = (keys: readonly string[]): Range | undefined => {
          const found = siblings.find(
            (each) => each !== pair && isScalar(each.key) && keys.includes(String(each.key.value)),
          );
          return found !== undefined && isScalar(found.value) ? contentRange(found.value) : undefined;
        };
        const hasOther = own === 'name' && siblings.some((each) => isScalar(each.key) && each.key.value === 'newName');
        spots.push({
          ...range,
          key: own,
          ...(hasOther ? {} : { tag: valueOf(tagKeys), digest: valueOf(digestKeys) }),
          comment: withComments && !inFlow && isOnOneLine(node) ? commentAt(text, node.range?.[1] ?? 0) : undefined,
        });
      },
    });
  }
  return spots;
}

function parsed(text: string): ReturnType<typeof parseAllDocuments> {
  try {
    return parseAllDocuments(text, { uniqueKeys: false, logLevel: 'silent' });
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

function isOnOneLine({ type }: Scalar): boolean {
  return type === 'PLAIN' || type === 'QUOTE_DOUBLE' || type === 'QUOTE_SINGLE';
}

/** Where the content of a scalar stands, without its quotes. */
function contentRange({ range, type }: Scalar): Range | undefined {
  if (!range) {
    return undefined;
  }
  const [start, end] = range;
  const quoted = type === 'QUOTE_DOUBLE' || type === 'QUOTE_SINGLE';
  return quoted ? { start: start + 1, end: Math.max(start + 1, end - 1) } : { start, end };
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
