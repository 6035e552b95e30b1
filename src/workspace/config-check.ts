import { isMap, isNode, isScalar, visit, type Document, type LineCounter } from 'yaml';
import * as z from 'zod';
import { messageOf } from '../core/errors';
import { isName } from '../core/names';
import type { ConfigFinding, Path } from './config-findings';
import { checkNames, checkRegistries } from './config-names';
import { checkTrust } from './config-trust';
import {
  bundleSchema,
  configSchema,
  environmentSchema,
  imageSchema,
  inclusionSchema,
  registrySchema,
  type RawConfig,
} from './config-schema';
import { misplacedSecrets } from './config-secrets';
import type { ConfigVariable, FilledConfig } from './config-variables';
import { describeIssues } from './config-words';

/** A parsed YAML document, and where its lines are. */
export interface ConfigDocument {
  /** How people name it, for messages. */
  readonly label: string;
  readonly document: Document;
  readonly lines: LineCounter;
}

/** A configuration of the right form whose names lead somewhere, or what is wrong in it: how much, and the first of it. */
export type CheckedConfig =
  { config: RawConfig; variables: readonly ConfigVariable[] } | { problems: string[]; count: number };

/** How many problems of one document are listed. */
export const problemsTold = 100;

/**
 * Checks a configuration, form and meaning at once; each problem begins with `label:line:column`.
 *
 * @param documents What it was read from, the configuration itself first, then what it extends.
 * @param filled What they say together, with variables filled in.
 */
export function checkDocuments(
  documents: readonly ConfigDocument[],
  { raw, variables, findings: ofVariables }: FilledConfig,
): CheckedConfig {
  const parsed = configSchema.safeParse(raw);
  const secrets = misplacedSecrets(raw);
  const isSecret = ({ path }: ConfigFinding): boolean =>
    secrets.some((secret) => path.every((key, at) => secret.path[at] === key) && path.length > 0);
  const findings = [
    ...documents.flatMap(({ document }) => reservedKeys(document)),
    ...secrets,
    ...ofVariables,
    ...(parsed.success
      ? [
          ...checkNames(parsed.data, Object.keys(parsed.data.environments)),
          ...checkTrust(parsed.data),
          ...checkRegistries(parsed.data),
        ]
      : [...describeIssues(parsed.error.issues, raw).filter((each) => !isSecret(each)), ...checkSoundParts(raw)]),
  ];
  if (parsed.success && findings.length === 0) {
    return { config: parsed.data, variables };
  }
  const places = findings
    .slice(0, problemsTold)
    .map((finding) => ({ ...position(documents, finding), text: finding.text }))
    .sort((a, b) => a.order - b.order || a.line - b.line || a.column - b.column);
  return {
    problems: places.map(({ label, line, column, text }) => `${label}:${line}:${column}: ${text}`),
    count: findings.length,
  };
}

/** The value of a document, or why it has none. */
export function plainValue({ document, label }: ConfigDocument): { raw: unknown } | { problem: string } {
  try {
    return { raw: document.toJS() };
  } catch (error) {
    // An alias without its anchor, or aliases that would grow beyond measure.
    return { problem: `${label}:1:1: ${messageOf(error)}` };
  }
}

/** Keys that JavaScript gives a meaning of its own, anywhere in a document. */
function reservedKeys(document: Document): ConfigFinding[] {
  const keys: unknown[] = [];
  visit(document, {
    Pair(_, { key }) {
      keys.push(isScalar(key) ? key.value : undefined);
    },
  });
  return keys.includes('__proto__') ? [{ path: [], text: 'there is a key __proto__, which is no name' }] : [];
}

const looseRecord = z.record(z.string(), z.unknown()).catch({});
const looseConfig = z.object({
  product: z.string().refine(isName).catch('product'),
  images: looseRecord,
  bundles: looseRecord,
  includes: looseRecord,
  environments: looseRecord,
  registries: looseRecord,
});

/** Checks the meaning of those parts that have the right form, beside others that have not. */
function checkSoundParts(raw: unknown): ConfigFinding[] {
  const loose = looseConfig.safeParse(raw).data;
  if (loose === undefined) {
    return [];
  }
  const { product, registries } = loose;
  const [images, bundles, environments] = [named(loose.images), named(loose.bundles), named(loose.environments)];
  const all = {
    product,
    images: soundParts(images, imageSchema, () => ({ from: 'unknown' })),
    bundles: soundParts(bundles, bundleSchema, () => ({ files: 'unknown' })),
    includes: soundParts(named(loose.includes), inclusionSchema, () => ({})),
    environments: soundParts(environments, environmentSchema, (name) => ({
      // A repository that no other environment has: two unknown ones must not look equal.
      repository: `unknown-${name}.test/{image}`,
      tags: { fixed: ['{version}'] },
      ...('after' in looseRecord.parse(environments[name]) ? { after: before(environments, name) } : {}),
    })),
  };
  return [
    ...checkNames(all, Object.keys(environments)),
    ...checkSoundTrust(raw, all.environments),
    ...checkRegistries({ registries: soundParts(registries, registrySchema, () => ({})) }),
  ];
}

const { trust, groups, sign } = configSchema.shape;
const trustedParts = z.object({ trust, groups, sign: sign.catch(undefined) });

/** Names that lead to nobody in `trust:` and `groups:` are found where both have the right form: else nobody knows whom they name. */
function checkSoundTrust(raw: unknown, environments: RawConfig['environments']): ConfigFinding[] {
  const { data } = trustedParts.safeParse(raw);
  return data === undefined ? [] : checkTrust({ ...data, environments });
}

/** Leaves out invalid names, whose problems are listed already. */
function named(record: Record<string, unknown>): Record<string, unknown> {
  return Object.fromEntries(Object.entries(record).filter(([name]) => isName(name)));
}

function before(environments: Record<string, unknown>, name: string): string | undefined {
  const names = Object.keys(environments);
  return names[names.indexOf(name) - 1];
}

/** Parts of one kind, each with those of its keys that have the right form; `otherwise` stands for keys that it must have. */
function soundParts<T>(
  record: Record<string, unknown>,
  schema: z.ZodObject & z.ZodType<T>,
  otherwise: (name: string) => object,
): Record<string, T> {
  return Object.fromEntries(
    Object.entries(record).flatMap(([name, value]) => {
      const keys = Object.entries(looseRecord.parse(value)).filter(
        ([key, each]) =>
          z
            .looseObject(schema.shape)
            .partial()
            .safeParse({ [key]: each }).success && key in schema.shape,
      );
      const parsed = schema.safeParse({ ...otherwise(name), ...Object.fromEntries(keys) });
      return parsed.success ? [[name, parsed.data]] : [];
    }),
  );
}

interface Position {
  label: string;
  /** The number of the document. */
  order: number;
  line: number;
  column: number;
}

/** Where a finding is: in the document that holds most of its path; in the first of them. */
function position(documents: readonly ConfigDocument[], finding: ConfigFinding): Position {
  const [first] = documents;
  let best: Position = { label: first?.label ?? '', order: 0, line: 1, column: 1 };
  let longest = -1;
  for (const [order, { document, lines, label }] of documents.entries()) {
    const found = nearestNode(document, finding);
    if (found !== undefined && found.length > longest) {
      const { line, col } = lines.linePos(found.offset);
      best = { label, order, line, column: col };
      longest = found.length;
    }
  }
  return best;
}

/** Where a path of a document leads, or as much of it as is there. */
function nearestNode(
  document: Document,
  { path, atKey }: ConfigFinding,
): { offset: number; length: number } | undefined {
  for (let length = path.length; length >= 0; length -= 1) {
    const parent = length === 0 ? document.contents : nodeAt(document, path.slice(0, length - 1));
    const offset =
      atKey === true && length === path.length
        ? keyOffset(parent, path.at(-1))
        : nodeOffset(length === 0 ? parent : nodeAt(document, path.slice(0, length)));
    if (offset !== undefined) {
      return { offset, length };
    }
  }
  return undefined;
}

function nodeAt(document: Document, path: Path): unknown {
  return path.length === 0 ? document.contents : document.getIn(path, true);
}

function nodeOffset(node: unknown): number | undefined {
  return isNode(node) ? node.range?.[0] : undefined;
}

function keyOffset(map: unknown, key: PropertyKey | undefined): number | undefined {
  const found = isMap(map)
    ? map.items.find((item) => isScalar(item.key) && String(item.key.value) === String(key))
    : undefined;
  return nodeOffset(found?.key);
}
