import { isMap, isNode, isScalar, visit, type Document, type LineCounter } from 'yaml';
import * as z from 'zod';
import { isThisMachine, whyExposed } from '../core/access/destinations';
import { HodError, messageOf } from '../core/errors';
import { nearestName, similarNames } from '../core/nearest';
import { parsePlatform } from '../core/oci/platform';
import { isRegistry, parseRepository } from '../core/oci/reference';
import { expandRepository, parseTemplate, TemplateError } from '../core/tags/template';
import { bundleSchema, configSchema, environmentSchema, imageSchema, type RawConfig } from './config-schema';

type Path = readonly PropertyKey[];
/** Something wrong at one place of the document. */
interface Finding {
  path: Path;
  /** The finding is about the key there, not about its value. */
  atKey?: boolean;
  text: string;
  /** The path, as text, of the key that a misspelt one means. */
  means?: string | undefined;
  /** The path, as text, of a key that is missing. */
  lacks?: string;
}

/** A configuration of the right form whose names lead somewhere, or what is wrong in it: how much, and the first of it. */
export type CheckedConfig = { config: RawConfig } | { problems: string[]; count: number };

/** How many problems are told of one document. */
export const problemsTold = 100;

/** Checks a parsed document; each problem begins with `label:line:column`. */
export function checkDocument(document: Document, lines: LineCounter, label: string): CheckedConfig {
  let raw: unknown;
  try {
    raw = document.toJS();
  } catch (error) {
    // An alias without its anchor, or aliases that would grow beyond measure.
    return { problems: [`${label}:1:1: ${messageOf(error)}`], count: 1 };
  }
  const parsed = configSchema.safeParse(raw);
  const findings = [
    ...reservedKeys(document),
    ...(parsed.success
      ? [...checkNames(parsed.data, Object.keys(parsed.data.environments)), ...checkRegistries(parsed.data)]
      : [...describeIssues(parsed.error.issues), ...checkSoundComponents(raw)]),
  ];
  if (parsed.success && findings.length === 0) {
    return { config: parsed.data };
  }
  const places = findings
    .slice(0, problemsTold)
    .map((finding) => ({ ...position(document, lines, finding), text: finding.text }));
  places.sort((a, b) => a.line - b.line || a.column - b.column);
  const problems = places.map(({ line, column, text }) => `${label}:${line}:${column}: ${text}`);
  return { problems, count: findings.length };
}

/** Keys that JavaScript would take for something else than a name, wherever they stand. */
function reservedKeys(document: Document): Finding[] {
  const keys: unknown[] = [];
  visit(document, {
    Pair(_, { key }) {
      keys.push(isScalar(key) ? key.value : undefined);
    },
  });
  return keys.includes('__proto__') ? [{ path: [], text: 'there is a key __proto__, which is no name' }] : [];
}

/** Secrets go over TLS, or stay on this machine. */
function checkRegistries({ registries = {} }: RawConfig): Finding[] {
  return Object.entries(registries).flatMap(([registry, { tls, credentials }]): Finding[] => {
    const path = ['registries', registry];
    const host = isRegistry(registry) ? [] : [{ path, atKey: true, text: `${registry} is not the host of a registry` }];
    const exchange = credentials !== undefined && 'job' in credentials ? credentials.job.exchange : undefined;
    const why = exchange === undefined ? undefined : whyExposed(new URL(exchange));
    const plain = tls === false && credentials !== undefined && !isThisMachine(registry);
    return [
      ...host,
      ...(why === undefined ? [] : [{ path: [...path, 'credentials', 'job', 'exchange'], text: `exchange: ${why}` }]),
      ...(plain
        ? [
            {
              path: [...path, 'tls'],
              text: `tls: the login of ${registry} would go over plain HTTP, where it can be read`,
            },
          ]
        : []),
    ];
  });
}

const looseRecord = z.record(z.string(), z.unknown()).catch({});
const looseConfig = z.object({
  product: z.string().catch('product'),
  images: looseRecord,
  bundles: looseRecord,
  environments: looseRecord,
});

/** Checks the names of those images and environments that have the right form, beside others that have not. */
function checkSoundComponents(raw: unknown): Finding[] {
  const loose = looseConfig.safeParse(raw).data;
  if (loose === undefined) {
    return [];
  }
  const sound = <T>(record: Record<string, unknown>, schema: z.ZodType<T>): Record<string, T> =>
    Object.fromEntries(
      Object.entries(record).flatMap(([name, value]) => {
        const parsed = schema.safeParse(value);
        return parsed.success ? [[name, parsed.data]] : [];
      }),
    );
  const { product, images, bundles, environments } = loose;
  const all = {
    product,
    images: sound(images, imageSchema),
    bundles: sound(bundles, bundleSchema),
    environments: sound(environments, environmentSchema),
  };
  return checkNames(all, Object.keys(environments));
}

/** What the issues of the schema mean. That a key is missing is not said where it is there, misspelt. */
function describeIssues(issues: readonly z.core.$ZodIssue[]): Finding[] {
  const findings = issues.flatMap(describeIssue);
  const meant = new Set(findings.map(({ means }) => means).filter((key) => key !== undefined));
  return findings.filter(({ lacks }) => lacks === undefined || !meant.has(lacks));
}

function describeIssue(issue: z.core.$ZodIssue): Finding[] {
  if (issue.code === 'unrecognized_keys') {
    const known = keysAt(configSchema, issue.path);
    return issue.keys.map((key) => {
      const meant = nearestName(key, known);
      return {
        path: [...issue.path, key],
        atKey: true,
        text: `there is no key ${key} here${alsoSimilar(key, known)}`,
        means: meant === undefined ? undefined : [...issue.path, meant].join('.'),
      };
    });
  }
  if (issue.code === 'invalid_key') {
    return [{ path: issue.path, atKey: true, text: `this name ${issue.issues[0]?.message ?? issue.message}` }];
  }
  const missing = issue.code === 'invalid_type' && issue.message.endsWith('received undefined');
  const key = String(issue.path.at(-1) ?? 'the document');
  return missing
    ? [{ path: issue.path, text: `${key} is missing`, lacks: issue.path.join('.') }]
    : [{ path: issue.path, text: `${key}: ${issue.message}` }];
}

/** The keys that the schema knows at a path of the document. */
function keysAt(root: z.ZodType, path: Path): string[] {
  let here: unknown = root;
  for (const key of path) {
    here = here instanceof z.ZodOptional ? here.unwrap() : here;
    here =
      here instanceof z.ZodObject
        ? new Map(Object.entries(here.shape)).get(String(key))
        : here instanceof z.ZodRecord
          ? here.valueType
          : undefined;
  }
  here = here instanceof z.ZodOptional ? here.unwrap() : here;
  return here instanceof z.ZodObject ? Object.keys(here.shape) : [];
}

function position(document: Document, lines: LineCounter, { path, atKey }: Finding): { line: number; column: number } {
  for (let length = path.length; length >= 0; length -= 1) {
    const parent = length === 0 ? document.contents : document.getIn(path.slice(0, length - 1), true);
    const offset =
      atKey === true && length === path.length
        ? keyOffset(parent, path.at(-1))
        : nodeOffset(length === 0 ? parent : document.getIn(path.slice(0, length), true));
    if (offset !== undefined) {
      const { line, col } = lines.linePos(offset);
      return { line, column: col };
    }
  }
  return { line: 1, column: 1 };
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

/** What the schema cannot see: names that lead nowhere, and texts that have a grammar of their own. */
function checkNames(
  raw: Pick<RawConfig, 'product' | 'images' | 'bundles' | 'environments'>,
  environmentNames: readonly string[],
): Finding[] {
  const findings: Finding[] = [];
  const check = (path: Path, work: () => void): void => {
    try {
      work();
    } catch (error) {
      if (!(error instanceof HodError || error instanceof TemplateError)) {
        throw error;
      }
      const text = error.message;
      findings.push({ path, text });
    }
  };
  const images = Object.entries(raw.images);
  for (const [name, image] of images) {
    image.platforms?.forEach((platform, at) => check(['images', name, 'platforms', at], () => parsePlatform(platform)));
  }
  const bundles = Object.keys(raw.bundles ?? {});
  for (const name of bundles.filter((each) => Object.hasOwn(raw.images, each))) {
    findings.push({ path: ['bundles', name], atKey: true, text: `an image is called ${name} too` });
  }
  const names = [...new Set([...Object.keys(raw.images), ...bundles])];
  for (const [name, environment] of Object.entries(raw.environments)) {
    const path = ['environments', name];
    findings.push(...checkAfter(path, environment.after, environmentNames.slice(0, environmentNames.indexOf(name))));
    const repositories = new Set<string>();
    for (const image of names) {
      check([...path, 'repository'], () => {
        const text = expandRepository(environment.repository, image, raw.product);
        parseRepository(text);
        if (repositories.has(text)) {
          throw new TemplateError('image', 'several images would share this repository; put {image} into it');
        }
        repositories.add(text);
      });
    }
    findings.push(...checkFirstOnly(path, environment, environmentNames.indexOf(name) === 0));
    checkTags([...path, 'tags'], environment.tags, check);
    findings.push(...checkSharedTags(path, name, environment, raw.environments));
    environment.gates?.platforms?.forEach((platform, at) =>
      check([...path, 'gates', 'platforms', at], () => parsePlatform(platform)),
    );
  }
  for (const [kind, components] of [
    ['images', raw.images],
    ['bundles', raw.bundles ?? {}],
  ] as const) {
    for (const [name, { tags = {} }] of Object.entries<{ tags?: Record<string, TagRules> | undefined }>(components)) {
      for (const [environment, rules] of Object.entries(tags)) {
        const path = [kind, name, 'tags', environment];
        if (!environmentNames.includes(environment)) {
          const text = `there is no environment ${environment}${alsoSimilar(environment, environmentNames)}`;
          findings.push({ path, atKey: true, text });
        }
        checkTags(path, rules, check);
      }
    }
  }
  return uniqueFindings(findings);
}

type TagRules = RawConfig['environments'][string]['tags'];

function checkTags(path: Path, rules: TagRules, check: (path: Path, work: () => void) => void): void {
  for (const kind of ['fixed', 'moving'] as const) {
    rules[kind]?.forEach((text, at) => check([...path, kind, at], () => parseTemplate(text)));
  }
}

/** A moving tag shows what one environment serves: another must not move it. */
function checkSharedTags(
  path: Path,
  name: string,
  { repository, tags }: RawConfig['environments'][string],
  all: RawConfig['environments'],
): Finding[] {
  const names = Object.keys(all);
  const earlier = Object.entries(all)
    .slice(0, names.indexOf(name))
    .filter(([, other]) => other.repository === repository);
  return (tags.moving ?? []).flatMap((text, at): Finding[] =>
    earlier
      .filter(([, other]) => other.tags.moving?.includes(text))
      .map(([other]) => ({
        path: [...path, 'tags', 'moving', at],
        text: `${other} moves ${text} in this repository too; give each environment tags of its own`,
      })),
  );
}

/** Builds come into the first environment, and releases through gates into all others. */
function checkFirstOnly(
  path: Path,
  { follows, gates }: RawConfig['environments'][string],
  isFirst: boolean,
): Finding[] {
  if (isFirst && gates !== undefined) {
    return [
      {
        path: [...path, 'gates'],
        atKey: true,
        text: 'publish writes the first environment; gates are for those that come after it',
      },
    ];
  }
  return !isFirst && follows !== undefined
    ? [
        {
          path: [...path, 'follows'],
          atKey: true,
          text: 'only the first environment takes builds of branches; releases are promoted into this one',
        },
      ]
    : [];
}

function checkAfter(path: Path, after: string | undefined, earlier: readonly string[]): Finding[] {
  if (earlier.length === 0) {
    return after === undefined
      ? []
      : [{ path: [...path, 'after'], text: 'the first environment comes after none; publish writes it' }];
  }
  if (after === undefined) {
    return [{ path, text: `after is missing; only the first environment has none; there are ${earlier.join(', ')}` }];
  }
  return earlier.includes(after)
    ? []
    : [
        {
          path: [...path, 'after'],
          text: `there is no environment ${after} before this one${alsoSimilar(after, earlier)}`,
        },
      ];
}

function alsoSimilar(name: string, known: readonly string[]): string {
  return known.length === 0 ? '' : `; ${similarNames(name, known)}`;
}

function uniqueFindings(findings: readonly Finding[]): Finding[] {
  return [...new Map(findings.map((each) => [JSON.stringify([each.path, each.text]), each])).values()];
}
