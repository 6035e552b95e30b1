import type { Tag } from '../oci/tag';
import { placeholdersOf, type Placeholder, type Template } from './template';
import { versionNamed, type Version } from './version';

/** What may stand for each placeholder in a tag; of the others, nothing can be told from a tag. */
const forms: Partial<Record<Placeholder, string>> = {
  version: '\\d[0-9A-Za-z._-]*',
  major: '0|[1-9]\\d*',
  minor: '0|[1-9]\\d*',
  patch: '0|[1-9]\\d*',
};

/** What a tag that names versions says: a whole one, or a line of them (`2`, `2.4`). */
export interface VersionReading {
  readonly version?: Version | undefined;
  readonly numbers: readonly number[];
}

/** Reads tags that a template with the parts of a version makes: the way back from `expandTag`. */
export class VersionTagReader {
  private readonly pattern: RegExp | undefined;

  constructor(template: Template, { component, product }: { readonly component: string; readonly product: string }) {
    const own = placeholdersOf(template);
    const known = (name: Placeholder): boolean => name in forms || name === 'image' || name === 'product';
    if (!own.every(known) || !own.some((name) => name in forms)) {
      return;
    }
    const seen = new Set<Placeholder>();
    const parts = template.parts.map((part) => {
      if (typeof part === 'string') {
        return escaped(part);
      }
      if (part.name === 'image' || part.name === 'product') {
        return escaped(part.name === 'image' ? component : product);
      }
      const isRepeated = seen.has(part.name);
      seen.add(part.name);
      return isRepeated ? `\\k<${part.name}>` : `(?<${part.name}>${forms[part.name] ?? ''})`;
    });
    this.pattern = new RegExp(`^${parts.join('')}$`);
  }

  /** Reads a tag; undefined where the template does not make it. */
  read(tag: Tag): VersionReading | undefined {
    const groups = this.pattern?.exec(tag)?.groups;
    if (groups === undefined) {
      return undefined;
    }
    const { version: text, major, minor, patch } = groups;
    const version = text === undefined ? undefined : versionNamed(text.replace('_', '+'));
    if (text !== undefined && (version === undefined || text.startsWith('v'))) {
      return undefined;
    }
    const numbers = [major, minor, patch].flatMap((each) => (each === undefined ? [] : [Number(each)]));
    return { version, numbers };
  }
}

function escaped(text: string): string {
  return text.replace(/[.*+?^${}()|[\]\\]/g, String.raw`\$&`);
}
