import { dirname, relative, resolve } from 'node:path';
import { isMap, isScalar, LineCounter, parseDocument, visit, type Document } from 'yaml';
import * as z from 'zod';
import { HodError, messageOf, systemErrorCode } from '../core/errors';
import { alsoSimilar, nearestName } from '../core/nearest';
import { plainValue, type ConfigDocument } from './config-check';
import { readSmallFile } from '../system/plain-files';

/** The name of the configuration file. */
export const configName = 'hod.yaml';

/**
 * A monorepo needs fewer; a longer chain is a mistake.
 * @limit hod.yaml files that extend one another | files | `config-invalid`
 */
const chainLimit = 8;
/** What a configuration shares with those that extend it: maps, name by name; and values, where they have none of their own. */
const mergedKeys = ['environments', 'registries', 'trust', 'groups', 'variables', 'announce'];
const wholeKeys = ['sign', 'shared-logins', 'ledger'];
const shared = [...mergedKeys, ...wholeKeys, 'extends'];

/** A document of a configuration, and the folder that paths in it are relative to. */
interface ReadDocument extends ConfigDocument {
  /** Its absolute path. */
  readonly file: string;
  readonly folder: string;
}

/** Reads a configuration, and what it extends, that first. Throws `usage`. */
export async function readDocuments(path: string): Promise<ReadDocument[]> {
  const documents: ReadDocument[] = [];
  const seen = new Set<string>();
  for (let file: string | undefined = resolve(path), from: string | undefined; file !== undefined;) {
    if (seen.has(file) || seen.size === chainLimit) {
      throw new HodError('config-invalid', {
        what: 'the configuration cannot be used',
        object: path,
        why: seen.has(file)
          ? `it extends itself, by way of ${from ?? file}`
          : `it extends more than ${chainLimit} others, one after the other`,
        next: 'let `extends:` name one file that holds what is shared',
      });
    }
    seen.add(file);
    const text = await readConfigFile(file, from);
    const lines = new LineCounter();
    const document = parseDocument(text, {
      lineCounter: lines,
      prettyErrors: false,
      uniqueKeys: false,
      // It would warn, of keys that are no names, on a stream of its own.
      logLevel: 'error',
    });
    const folder = dirname(file);
    const label = documents.length === 0 ? path : relative(process.cwd(), file);
    documents.push({ file, label, document, lines, folder });
    const base = isMap(document.contents) ? document.contents.get('extends') : undefined;
    from = relative(process.cwd(), file);
    file = typeof base === 'string' && base !== '' ? resolve(folder, base) : undefined;
  }
  return documents;
}

async function readConfigFile(file: string, from: string | undefined): Promise<string> {
  try {
    return (await readSmallFile(file)).toString('utf8');
  } catch (error) {
    if (error instanceof HodError) {
      throw error;
    }
    const absent = systemErrorCode(error) === 'ENOENT';
    throw new HodError(
      absent ? 'config-missing' : 'file-unusable',
      {
        what: absent ? 'there is no configuration here' : 'the configuration cannot be read',
        object: file,
        why: absent ? 'no such file' : messageOf(error),
        next:
          from === undefined
            ? `run hod in the folder that holds ${configName}, name the file with --config, or write one with \`hod init\``
            : `correct \`extends:\` in ${from}`,
      },
      { cause: error },
    );
  }
}

/** What the YAML package says for programmers, for people. */
const yamlProblems: ReadonlyMap<string, string> = new Map([
  ['MULTIPLE_DOCS', 'a second document begins here; hod.yaml is one'],
  ['RESOURCE_EXHAUSTION', 'it is nested too deeply'],
]);

/** What is wrong with a document as YAML; keys that stand twice leave the rest to be understood. */
export function faultsIn({ document, lines, label }: ConfigDocument): { syntax: string[]; repeated: string[] } {
  const told = (at: number, text: string): string => {
    const { line, col } = lines.linePos(at);
    return `${label}:${line}:${col}: ${text}`;
  };
  return {
    syntax: document.errors.map(({ pos, code, message }) => told(pos[0], yamlProblems.get(code) ?? message)),
    repeated: repeatedKeys(document).map((at) => told(at, 'this key stands here twice')),
  };
}

/** Where keys begin that their map has already. The package would compare each key with all before it. */
function repeatedKeys(document: Document): number[] {
  const repeated: number[] = [];
  visit(document, {
    Map(_, { items }) {
      const seen = new Set<string>();
      for (const { key } of items) {
        if (isScalar(key)) {
          const name = String(key.value);
          if (seen.has(name)) {
            repeated.push(key.range?.[0] ?? 0);
          }
          seen.add(name);
        }
      }
    },
  });
  return repeated;
}

const anyRecord = z.record(z.string(), z.unknown());

/**
 * What documents say together. Of what is extended, an environment or registry that the configuration names too keeps the
 * keys that this leaves out; paths in it are relative to where it stands.
 */
export function layered(documents: readonly ReadDocument[]): { raw: unknown } | { problems: string[] } {
  const values = documents.map(plainValue);
  const problems = values.flatMap((each) => ('problem' in each ? [each.problem] : []));
  const [own, ...bases] = values.map((each) => ('raw' in each ? each.raw : undefined));
  const configuration = anyRecord.safeParse(own).data;
  if (problems.length > 0) {
    return { problems };
  }
  if (bases.length === 0 || configuration === undefined) {
    return { raw: own };
  }
  const all = { ...configuration };
  for (const [at, value] of bases.entries()) {
    const { folder = '', label = '' } = documents[at + 1] ?? {};
    const base = anyRecord.safeParse(value).data ?? {};
    problems.push(
      ...Object.keys(base)
        .filter((key) => !shared.includes(key))
        .map(
          (key) =>
            `${label}:1:1: ${key} cannot be shared; a base can hold ${shared.join(', ')}${nearestName(key, shared) === undefined ? '' : alsoSimilar(key, shared)}`,
        ),
    );
    mergedKeys.forEach((key) => (all[key] = merged(fromFolder(base[key], folder), all[key])));
    wholeKeys.forEach((key) => (all[key] ??= fromFolder(base[key], folder)));
  }
  return problems.length > 0
    ? { problems }
    : { raw: Object.fromEntries(Object.entries(all).filter(([, value]) => value !== undefined)) };
}

/** Two maps of maps: those of the base first, each with what the other says of it. */
function merged(base: unknown, own: unknown): unknown {
  const [theirs, ours] = [anyRecord.safeParse(base).data, anyRecord.safeParse(own).data];
  if (theirs === undefined || (own !== undefined && ours === undefined)) {
    return own ?? base;
  }
  const entries = Object.entries(theirs).map(([name, value]): [string, unknown] => {
    const [one, other] = [anyRecord.safeParse(value).data, anyRecord.safeParse(ours?.[name]).data];
    return [name, one === undefined || other === undefined ? (ours?.[name] ?? value) : { ...one, ...other }];
  });
  return Object.fromEntries([
    ...entries,
    ...Object.entries(ours ?? {}).filter(([name]) => !Object.hasOwn(theirs, name)),
  ]);
}

/** Keys whose values are paths of files. */
const fileKeys = ['file', 'ca', 'client-certificate', 'client-key', 'except'];

function fromFolder(value: unknown, folder: string): unknown {
  if (Array.isArray(value)) {
    return value.map((each) => fromFolder(each, folder));
  }
  const record = anyRecord.safeParse(value).data;
  if (record === undefined) {
    return value;
  }
  return Object.fromEntries(
    Object.entries(record).map(([key, each]) => [
      key,
      fileKeys.includes(key) && typeof each === 'string' ? resolve(folder, each) : fromFolder(each, folder),
    ]),
  );
}
