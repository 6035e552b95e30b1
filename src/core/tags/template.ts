import { createHash } from 'node:crypto';
import { HodError } from '../errors';
import { isTag, tagLengthLimit, type Tag } from './tag';
import { versionNumbers, type Version } from './version';

/** The names that may stand between braces in a tag rule. */
export const placeholders = [
  'image',
  'product',
  'commit',
  'version',
  'major',
  'minor',
  'patch',
  'branch',
  'build',
  'date',
] as const;

/** One of {@link placeholders}. */
export type Placeholder = (typeof placeholders)[number];

/** What placeholders stand for while one build is published. */
export interface TemplateFacts {
  product: string;
  /** Full commit id, lower-case hexadecimal. */
  commit?: string | undefined;
  version?: Version | undefined;
  branch?: string | undefined;
  /** The number that the CI gave to this build. */
  build?: string | undefined;
  /** The day of the commit, UTC, `YYYYMMDD`. */
  date?: string | undefined;
}

interface PlaceholderPart {
  readonly name: Placeholder;
  /** How many characters to take from the front; `{commit:12}`. */
  readonly length?: number;
}

/** A text with placeholders, parsed. */
export interface Template {
  readonly text: string;
  readonly parts: readonly (string | PlaceholderPart)[];
}

/** A placeholder that does not exist, or has a length where none can stand. */
export class TemplateError extends Error {
  constructor(
    readonly placeholder: string,
    message: string,
  ) {
    super(message);
  }
}

/** Parses a text with placeholders. Throws {@link TemplateError} for one that is not known. */
export function parseTemplate(text: string): Template {
  const parts = text.split(/(\{[^{}]*\})/).filter((part) => part !== '');
  return { text, parts: parts.map((part) => (part.startsWith('{') ? parsePlaceholder(part) : part)) };
}

function parsePlaceholder(text: string): PlaceholderPart {
  const [name = '', length] = text.slice(1, -1).split(':');
  const known = placeholders.find((each) => each === name);
  if (known === undefined) {
    throw new TemplateError(name, `there is no placeholder ${text}; there are {${placeholders.join('}, {')}}`);
  }
  if (length === undefined) {
    return { name: known };
  }
  if (known !== 'commit' || !/^\d{1,2}$/.test(length) || Number(length) < 7 || Number(length) > 64) {
    throw new TemplateError(name, `${text}: only commit takes a length, from 7 to 64, as in {commit:12}`);
  }
  return { name: known, length: Number(length) };
}

/** The placeholders that a template uses. */
export function placeholdersOf(template: Template): Placeholder[] {
  return template.parts.flatMap((part) => (typeof part === 'string' ? [] : [part.name]));
}

/** A text for a repository name: `{image}` and `{product}` only. */
export function expandRepository(template: string, image: string, product: string): string {
  return template.replaceAll('{image}', image).replaceAll('{product}', product);
}

/** The tag that a template means for an image, or the first placeholder that nothing is known for. */
export type Expansion = { tag: Tag } | { lacks: Placeholder };

/**
 * Fills a template in. Characters that a tag cannot hold become `-`; where that, or cutting at the
 * longest tag, loses something, a short hash of the whole follows, so that two branches never share
 * a tag. The `+` of a version becomes `_`, which no version holds, so nothing is lost there.
 */
export function expandTag(template: Template, facts: TemplateFacts, image: string): Expansion {
  let exact = '';
  for (const part of template.parts) {
    if (typeof part === 'string') {
      exact += part;
      continue;
    }
    const value = placeholderValue(part.name, facts, image);
    if (value === undefined) {
      return { lacks: part.name };
    }
    exact += part.name === 'version' ? value.replace('+', '_') : value.slice(0, part.length);
  }
  const safe = exact.replace(/[^a-zA-Z0-9._-]/g, '-').replace(/^[.-]/, '_');
  const tag = safe === exact && safe.length <= tagLengthLimit ? safe : withHash(safe, exact);
  if (!isTag(tag)) {
    throw new HodError('usage', {
      what: 'a tag rule gives no tag',
      object: template.text,
      why: `for ${image} it gives ${JSON.stringify(tag)}`,
      next: 'change the rule in hod.yaml; `hod config check` shows where it stands',
    });
  }
  return { tag };
}

function withHash(safe: string, exact: string): string {
  const hash = createHash('sha256').update(exact).digest('hex').slice(0, 6);
  return `${safe.slice(0, tagLengthLimit - 1 - hash.length)}-${hash}`;
}

function placeholderValue(name: Placeholder, facts: TemplateFacts, image: string): string | undefined {
  switch (name) {
    case 'image':
      return image;
    case 'major':
    case 'minor':
    case 'patch':
      return facts.version === undefined ? undefined : versionNumbers(facts.version)[name];
    default:
      return facts[name];
  }
}
