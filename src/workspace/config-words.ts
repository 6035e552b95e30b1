import * as z from 'zod';
import { normalName } from '../core/names';
import { nearestName, alsoSimilar } from '../core/nearest';
import type { ConfigFinding, Path } from './config-findings';
import { configSchema } from './config-schema';

/** What the issues of the schema mean. That a key is missing is not said where it is there, misspelt. */
export function describeIssues(issues: readonly z.core.$ZodIssue[], raw: unknown): ConfigFinding[] {
  const findings = issues.flatMap((issue) => describeIssue(issue, raw));
  const meant = new Set(findings.map(({ means }) => means).filter((key) => key !== undefined));
  return findings.filter(({ lacks }) => lacks === undefined || !meant.has(lacks));
}

function describeIssue(issue: z.core.$ZodIssue, raw: unknown): ConfigFinding[] {
  const { path } = issue;
  const key = String(path.at(-1) ?? 'the document');
  if (issue.code === 'unrecognized_keys') {
    const known = keysAt(configSchema, path);
    return issue.keys.map((each) => {
      const meant = nearestName(each, known);
      return {
        path: [...path, each],
        atKey: true,
        text: `there is no key ${each} here${alsoSimilar(each, known)}`,
        means: meant === undefined ? undefined : [...path, meant].join('.'),
      };
    });
  }
  if (issue.code === 'invalid_key') {
    return [{ path, atKey: true, text: `this name ${issue.issues[0]?.message ?? issue.message}${betterName(key)}` }];
  }
  const meant = issue.code === 'invalid_union' ? formMeant(issue.errors) : undefined;
  if (meant !== undefined) {
    return meant.flatMap((each) => describeIssue({ ...each, path: [...path, ...each.path] }, raw));
  }
  const value = valueAt(raw, path);
  return value === undefined && issue.code === 'invalid_type'
    ? [{ path, text: `${key} is missing`, lacks: path.join('.') }]
    : [{ path, text: `${key}: ${inWords(issue, value)}` }];
}

/** The one form of several that a value has but for what is wrong below it; undefined where that is none, or more than one. */
function formMeant(forms: readonly (readonly z.core.$ZodIssue[])[]): readonly z.core.$ZodIssue[] | undefined {
  const fitting = forms.filter((issues) => issues.every(({ code, path }) => code === 'custom' || path.length > 0));
  return fitting.length === 1 ? fitting[0] : undefined;
}

/** What the validator's kinds of values are called. */
const kinds = new Map([
  ['string', 'a text'],
  ['number', 'a number'],
  ['int', 'a whole number'],
  ['boolean', 'true or false'],
  ['array', 'a list'],
  ['object', 'a map, with keys below it'],
  ['record', 'a map, with keys below it'],
]);

/** What an issue of the validator means. Where the schema says it in words of ours, those. */
function inWords(issue: z.core.$ZodIssue, value: unknown): string {
  switch (issue.code) {
    case 'invalid_type':
      return `must be ${kinds.get(issue.expected) ?? issue.expected}, and is ${kindOf(value)}`;
    case 'too_small':
      return `must be ${issue.origin === 'string' || issue.origin === 'array' ? 'filled in' : `${issue.minimum} at least`}`;
    case 'too_big':
      return `must be ${issue.maximum} at most`;
    case 'invalid_format':
      return issue.format === 'url'
        ? 'must be a URL, such as https://service.test/path'
        : `${issue.message}${issue.path.join() === 'product' ? betterName(String(value)) : ''}`;
    default:
      return issue.message;
  }
}

/** A name that the grammar allows, near to one that it does not. */
function betterName(name: string): string {
  const better = normalName(name, '');
  return better === '' ? '' : `, such as ${better}`;
}

function kindOf(value: unknown): string {
  if (value === null || value === undefined) {
    return 'empty';
  }
  const kind = Array.isArray(value) ? 'array' : typeof value;
  return kinds.get(kind)?.replace(/,.*/, '') ?? kind;
}

const container = z.record(z.string(), z.unknown()).or(z.array(z.unknown()));

function valueAt(raw: unknown, path: Path): unknown {
  let here = raw;
  for (const key of path) {
    const holder = container.safeParse(here).data;
    here = holder === undefined ? undefined : new Map(Object.entries(holder)).get(String(key));
  }
  return here;
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
