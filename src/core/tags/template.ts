import { createHash } from 'node:crypto';
import type { CommitId } from '../commit';
import { digitsOf, type Digest } from '../oci/digest';
import { HodError } from '../errors';
import { isTag, tagLengthLimit, type Tag } from '../oci/tag';
import { versionNumbers, type Version } from './version';

/** What placeholders stand for while one build is published. */
export interface TagValues {
  product: string;
  /** Full commit id, lower-case hexadecimal. */
  commit?: CommitId | undefined;
  /** Of the component. */
  digest?: Digest | undefined;
  version?: Version | undefined;
  branch?: string | undefined;
  /** The number that the CI gave to this build. */
  build?: string | undefined;
  /** The day of the commit, UTC, `YYYYMMDD`. */
  date?: string | undefined;
  /** `os/arch[/variant]` of the image of an index that the tag leads to. */
  platform?: string | undefined;
}

/** The names that may stand between braces in a tag rule, and what each stands for. */
const valueOf = {
  image: (_, component) => component,
  product: ({ product }) => product,
  commit: ({ commit }) => commit,
  digest: ({ digest }) => digest && digitsOf(digest),
  version: ({ version }) => version?.replace('+', '_'),
  major: ({ version }) => version && versionNumbers(version).major,
  minor: ({ version }) => version && versionNumbers(version).minor,
  patch: ({ version }) => version && versionNumbers(version).patch,
  branch: ({ branch }) => branch,
  build: ({ build }) => build,
  date: ({ date }) => date,
  platform: ({ platform }) => platform?.replaceAll('/', '-'),
} as const satisfies Record<string, (values: TagValues, component: string) => string | undefined>;

/** A name that may stand between braces. */
export type Placeholder = keyof typeof valueOf;
const isPlaceholder = (name: string): name is Placeholder => Object.hasOwn(valueOf, name);

/** Those of which a beginning tells enough. */
const cut: readonly Placeholder[] = ['commit', 'digest'];

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
  if (!isPlaceholder(name)) {
    const known = Object.keys(valueOf).join('}, {');
    throw new TemplateError(name, `there is no placeholder ${text}; there are {${known}}`);
  }
  if (length === undefined) {
    return { name };
  }
  if (!cut.includes(name) || !/^\d{1,2}$/.test(length) || Number(length) < 7 || Number(length) > 64) {
    throw new TemplateError(name, `${text}: only commit and digest take a length, from 7 to 64, as in {commit:12}`);
  }
  return { name, length: Number(length) };
}

/** The placeholders that a template uses. */
export function placeholdersOf(template: Template): Placeholder[] {
  return template.parts.flatMap((part) => (typeof part === 'string' ? [] : [part.name]));
}

/** A text for a repository name: `{image}` and `{product}` only. */
export function expandRepository(template: string, component: string, product: string): string {
  return template.replaceAll('{image}', component).replaceAll('{product}', product);
}

/** The tag that a template means for a component, or the first placeholder that nothing is known for. */
export type Expansion = { tag: Tag } | { missing: Placeholder };

/**
 * Fills a template in. Characters that a tag cannot hold become `-`; where that, or cutting at the
 * longest tag, loses something, a short hash of the whole follows, so that two branches never share
 * a tag. The `+` of a version becomes `_`, which no version holds, so nothing is lost there.
 */
export function expandTag(template: Template, values: TagValues, component: string): Expansion {
  let exact = '';
  for (const part of template.parts) {
    if (typeof part === 'string') {
      exact += part;
      continue;
    }
    const value = valueOf[part.name](values, component);
    if (value === undefined) {
      return { missing: part.name };
    }
    exact += value.slice(0, part.length);
  }
  const safe = exact.replace(/[^a-zA-Z0-9._-]/g, '-').replace(/^[.-]/, '_');
  const tag = safe === exact && safe.length <= tagLengthLimit ? safe : withHash(safe, exact);
  if (!isTag(tag)) {
    throw new HodError('tag-empty', {
      what: 'a tag rule gives no tag',
      object: template.text,
      why: `for ${component} it gives ${JSON.stringify(tag)}`,
      next: 'change the rule in hod.yaml; `hod config check` shows where it stands',
    });
  }
  return { tag };
}

/** The letters that a hash behind a tag is written in. */
export const hashLetters = 'ghjkmnpqrstvwxyz';

function withHash(safe: string, exact: string): string {
  const digits = createHash('sha256').update(exact).digest('hex').slice(0, 6);
  // In letters that no commit id has: it would be taken for one.
  const hash = digits.replace(/./g, (digit) => hashLetters.charAt(Number.parseInt(digit, 16)));
  return `${safe.slice(0, tagLengthLimit - 1 - hash.length)}-${hash}`;
}
