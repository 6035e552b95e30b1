import { readFile } from 'node:fs/promises';
import { dirname, join, resolve } from 'node:path';
import { LineCounter, parseDocument, type Document } from 'yaml';
import * as z from 'zod';
import { HodError, systemErrorCode } from '../core/errors';
import { nearestName } from '../core/nearest';
import { parsePlatform, type Platform } from '../core/oci/platform';
import { parseRepository, type Repository } from '../core/oci/reference';
import { followedBy, type TagRule } from '../core/tags/rules';
import { expandRepository, parseTemplate, TemplateError } from '../core/tags/template';

/** The name of the configuration file. */
export const configName = 'hod.yaml';

/** An image of the product. */
export interface ImageConfig {
  readonly name: string;
  /** Paths of image layouts, each with an entry where one is named (`out/all.tar#name`); absolute. */
  readonly from: readonly string[];
  /** The platforms that must be there; empty where hod.yaml does not say. */
  readonly platforms: readonly Platform[];
}

/** A stage that releases pass through. */
export interface EnvironmentConfig {
  readonly name: string;
  /** The environment that releases come from; undefined for the first, where publish writes. */
  readonly after: string | undefined;
  readonly rules: readonly TagRule[];
  /** The repository of an image in this environment. */
  repositoryOf(image: string): Repository;
}

/** How hod.yaml says that a registry is reached. Secrets are named, never written here. */
export interface RegistryConfig {
  readonly tls: boolean | undefined;
  readonly credentials: { username: { env: string }; password: { env: string } } | undefined;
}

/** A hod.yaml, checked and resolved. */
export interface Config {
  readonly product: string;
  /** Absolute path of the file. */
  readonly file: string;
  /** The folder that holds it; everything in it is relative to this. */
  readonly folder: string;
  readonly images: readonly ImageConfig[];
  /** In the order in which releases pass through them; never empty. */
  readonly environments: readonly [EnvironmentConfig, ...EnvironmentConfig[]];
  readonly registries: ReadonlyMap<string, RegistryConfig>;
  /** Absolute path of the ledger's file. */
  readonly ledgerFile: string;
}

const nameSchema = z
  .string()
  .regex(/^[a-z][a-z0-9]*(?:[-_.][a-z0-9]+)*$/, 'must be lower-case letters and digits with single - _ . between them');
const fromEnvironment = z.strictObject({ env: z.string().regex(/^[A-Za-z_][A-Za-z0-9_]*$/, 'must name a variable') });
const paths = z.union([z.string().min(1), z.array(z.string().min(1)).min(1)], 'must be a path or a list of paths');

const schema = z.strictObject({
  product: nameSchema,
  images: z.record(nameSchema, z.strictObject({ from: paths, platforms: z.array(z.string()).min(1).optional() })),
  environments: z.record(
    nameSchema,
    z.strictObject({
      after: z.string().optional(),
      repository: z.string(),
      tags: z.strictObject({ fixed: z.array(z.string()).optional(), moving: z.array(z.string()).optional() }),
    }),
  ),
  registries: z
    .record(
      z.string(),
      z.strictObject({
        tls: z.boolean().optional(),
        credentials: z.strictObject({ username: fromEnvironment, password: fromEnvironment }).optional(),
      }),
    )
    .optional(),
  ledger: z.strictObject({ file: z.string().min(1) }).optional(),
});
type RawConfig = z.infer<typeof schema>;

type Path = readonly PropertyKey[];
/** Something wrong at one place of the document. */
interface Finding {
  path: Path;
  /** The finding is about the key there, not about its value. */
  atKey?: boolean;
  text: string;
}

/**
 * Reads and checks a hod.yaml. Throws one `usage` error that names everything that is wrong in it,
 * each with line, column and, for a name that does not exist, the nearest that does.
 */
export async function loadConfig(path: string): Promise<Config> {
  const file = resolve(path);
  const text = await readConfigFile(file);
  const lines = new LineCounter();
  const document = parseDocument(text, { lineCounter: lines, prettyErrors: false });
  if (document.errors.length > 0) {
    const problems = document.errors.map((error) => {
      const { line, col } = lines.linePos(error.pos[0]);
      return `${path}:${line}:${col}: ${error.message}`;
    });
    throw configError(path, 'it is not YAML', problems);
  }
  const parsed = schema.safeParse(document.toJS());
  const findings = parsed.success ? checkNames(parsed.data) : parsed.error.issues.flatMap(describeIssue);
  if (!parsed.success || findings.length > 0) {
    const places = findings.map((finding) => ({ ...position(document, lines, finding), text: finding.text }));
    places.sort((a, b) => a.line - b.line || a.column - b.column);
    const problems = places.map(({ line, column, text: what }) => `${path}:${line}:${column}: ${what}`);
    throw configError(
      path,
      problems.length === 1 ? 'one thing is wrong in it' : `${problems.length} things are wrong in it`,
      problems,
    );
  }
  return resolveConfig(parsed.data, file);
}

async function readConfigFile(file: string): Promise<string> {
  try {
    return await readFile(file, 'utf8');
  } catch (error) {
    const absent = systemErrorCode(error) === 'ENOENT';
    throw new HodError(
      'usage',
      {
        what: absent ? 'there is no configuration here' : 'the configuration cannot be read',
        object: file,
        why: absent ? 'no such file' : String(error),
        next: `run hod in the folder that holds ${configName}, or name the file with --config`,
      },
      { cause: error },
    );
  }
}

function configError(path: string, summary: string, problems: string[]): HodError {
  return new HodError('usage', {
    what: 'the configuration cannot be used',
    object: path,
    why: [summary, ...problems].join('\n'),
    next: 'correct it; `hod config check` tells when all is well',
  });
}

function describeIssue(issue: z.core.$ZodIssue): Finding[] {
  if (issue.code === 'unrecognized_keys') {
    const known = keysAt(schema, issue.path);
    return issue.keys.map((key) => ({
      path: [...issue.path, key],
      atKey: true,
      text: `there is no key ${key} here${nearest(key, known)}`,
    }));
  }
  if (issue.code === 'invalid_key') {
    return [{ path: issue.path, atKey: true, text: `this name ${issue.issues[0]?.message ?? issue.message}` }];
  }
  const missing = issue.code === 'invalid_type' && issue.message.endsWith('received undefined');
  const key = String(issue.path.at(-1) ?? 'the document');
  return [{ path: issue.path, text: missing ? `${key} is missing` : `${key}: ${issue.message}` }];
}

/** The keys that the schema knows at a path of the document. */
function keysAt(root: z.ZodType, path: Path): string[] {
  let here: unknown = root;
  for (const key of path) {
    here = here instanceof z.ZodOptional ? here.unwrap() : here;
    here =
      here instanceof z.ZodObject ? here.shape[String(key)] : here instanceof z.ZodRecord ? here.valueType : undefined;
  }
  here = here instanceof z.ZodOptional ? here.unwrap() : here;
  return here instanceof z.ZodObject ? Object.keys(here.shape) : [];
}

/** What to say about the names that there are, beside one that there is not. */
function nearest(name: string, known: readonly string[]): string {
  const best = nearestName(name, known);
  if (best !== undefined) {
    return `; the nearest is ${best}`;
  }
  return known.length === 0 ? '' : `; there are ${known.join(', ')}`;
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

const rangedNode = z.object({ range: z.tuple([z.number(), z.number(), z.number()]) });
const mapNode = z.object({ items: z.array(z.object({ key: rangedNode.extend({ value: z.unknown() }) })) });

function nodeOffset(node: unknown): number | undefined {
  return rangedNode.safeParse(node).data?.range[0];
}

function keyOffset(map: unknown, key: PropertyKey | undefined): number | undefined {
  const found = mapNode.safeParse(map).data?.items.find((item) => String(item.key.value) === String(key));
  return found?.key.range[0];
}

/** What the schema cannot see: names that lead nowhere, and texts that have a grammar of their own. */
function checkNames(raw: RawConfig): Finding[] {
  const findings: Finding[] = [];
  const check = (path: Path, work: () => void): void => {
    try {
      work();
    } catch (error) {
      if (!(error instanceof HodError || error instanceof TemplateError)) {
        throw error;
      }
      const text = error instanceof HodError ? [error.problem.what, error.problem.why].join(': ') : error.message;
      findings.push({ path, text });
    }
  };
  const images = Object.entries(raw.images);
  if (images.length === 0) {
    findings.push({ path: ['images'], text: 'there is no image' });
  }
  for (const [name, image] of images) {
    image.platforms?.forEach((platform, at) => check(['images', name, 'platforms', at], () => parsePlatform(platform)));
  }
  const environments = Object.entries(raw.environments);
  if (environments.length === 0) {
    findings.push({ path: ['environments'], text: 'there is no environment' });
  }
  environments.forEach(([name, environment], at) => {
    const path = ['environments', name];
    const earlier = environments.slice(0, at).map(([each]) => each);
    findings.push(...checkAfter(path, environment.after, earlier));
    const repositories = new Set<string>();
    for (const [image] of images) {
      check([...path, 'repository'], () => {
        const text = expandRepository(environment.repository, image, raw.product);
        parseRepository(text);
        if (repositories.has(text)) {
          throw new TemplateError('image', 'several images would share this repository; put {image} into it');
        }
        repositories.add(text);
      });
    }
    const { fixed = [], moving = [] } = environment.tags;
    fixed.forEach((text, index) => check([...path, 'tags', 'fixed', index], () => parseTemplate(text)));
    moving.forEach((text, index) => check([...path, 'tags', 'moving', index], () => parseTemplate(text)));
    if (fixed.length + moving.length === 0) {
      findings.push({ path: [...path, 'tags'], text: 'there is no tag' });
    }
  });
  return uniqueFindings(findings);
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
          text: `there is no environment ${after} before this one${nearest(after, earlier)}`,
        },
      ];
}

function uniqueFindings(findings: readonly Finding[]): Finding[] {
  return [...new Map(findings.map((each) => [JSON.stringify([each.path, each.text]), each])).values()];
}

function resolveConfig(raw: RawConfig, file: string): Config {
  const folder = dirname(file);
  const environments = Object.entries(raw.environments).map(
    ([name, { after, repository, tags }]): EnvironmentConfig => {
      const rules: TagRule[] = [
        ...(tags.fixed ?? []).map((text) => ({ kind: 'fixed' as const, template: parseTemplate(text) })),
        ...(tags.moving ?? []).map(parseTemplate).map((template) => {
          return { kind: 'moving' as const, template, follows: followedBy(template, name) };
        }),
      ];
      return {
        name,
        after,
        rules,
        repositoryOf: (image) => parseRepository(expandRepository(repository, image, raw.product)),
      };
    },
  );
  const [first, ...others] = environments;
  if (first === undefined) {
    throw new Error('a configuration without environments passed its check');
  }
  return {
    product: raw.product,
    file,
    folder,
    images: Object.entries(raw.images).map(([name, image]) => ({
      name,
      from: [image.from].flat().map((path) => resolve(folder, path)),
      platforms: (image.platforms ?? []).map(parsePlatform),
    })),
    environments: [first, ...others],
    registries: new Map(
      Object.entries(raw.registries ?? {}).map(([registry, { tls, credentials }]) => [
        registry.toLowerCase(),
        { tls, credentials },
      ]),
    ),
    ledgerFile: resolve(folder, raw.ledger?.file ?? join('.hod', 'ledger.db')),
  };
}

/** An environment by its name. Throws a `usage` error, with the nearest name, where there is none. */
export function environmentNamed(config: Config, name: string): EnvironmentConfig {
  const found = config.environments.find((each) => each.name === name);
  if (found === undefined) {
    const known = config.environments.map((each) => each.name);
    throw new HodError('usage', {
      what: 'there is no such environment',
      object: name,
      why: `${config.file} has none of this name${nearest(name, known)}`,
    });
  }
  return found;
}
