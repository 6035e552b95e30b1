import { HodError } from '../errors';
import type { Digest } from '../oci/digest';
import { parseReference, parseRepository, type Reference } from '../oci/reference';
import {
  expandRepository,
  expandTag,
  parseTemplate,
  TemplateError,
  type TagValues,
  type Template,
} from '../tags/template';
import type { Build } from './build';

/** Where a build output is: on this machine, or in a registry, where a builder pushed it. */
export type OutputPlace = PathPlace | ReferencePlace;

/** `path`, or `path#entry`. */
export interface PathPlace {
  readonly kind: 'path';
  readonly path: string;
}

/** A reference, in which placeholders of the build may stand. */
export interface ReferencePlace {
  readonly kind: 'reference';
  /** As it is written. */
  readonly text: string;
  /** `registry/name`, with `{image}` and `{product}`. */
  readonly repository: string;
  readonly tag: Template | undefined;
  readonly digest: Digest | undefined;
}

const prefix = 'registry:';

/**
 * Reads where a build output is. `registry:` in front makes it a reference, `./` a path. Without them, what begins with a registry
 * and ends with a tag or a digest is a reference, unless a file of that name is here.
 *
 * @throws {@link TemplateError} for a placeholder that is not known, and for a reference that names no content.
 */
export function parseOutputPlace(text: string, isHere: (path: string) => boolean): OutputPlace {
  if (text.startsWith(prefix)) {
    return parsePlace(text.slice(prefix.length));
  }
  return looksLikeReference(text) && !isHere(text) ? parsePlace(text) : { kind: 'path', path: text };
}

function looksLikeReference(text: string): boolean {
  const [host = '', ...path] = text.split('/');
  const isHost = /^(?:localhost(?::\d+)?|[a-z0-9-]+(?:[.:][a-z0-9-]+)+)$/i.test(host);
  return isHost && /[:@]/.test(path.at(-1) ?? '') && !text.includes('#');
}

function parsePlace(text: string): ReferencePlace {
  const [named = '', digest] = text.split('@');
  const last = named.lastIndexOf('/') + 1;
  const colon = named.indexOf(':', last);
  const [repository, tag] = colon < 0 ? [named, undefined] : [named.slice(0, colon), named.slice(colon + 1)];
  if (tag === undefined && digest === undefined) {
    throw new TemplateError('from', `${text} names a repository; add the :tag or the @digest of the build output`);
  }
  return {
    kind: 'reference',
    text,
    repository,
    tag: tag === undefined ? undefined : parseTemplate(tag),
    digest: digest === undefined ? undefined : parseReference(`registry.test/name@${digest}`).digest,
  };
}

/** How people name a place. */
export function placeText(place: OutputPlace): string {
  return place.kind === 'path' ? place.path : place.text;
}

/**
 * The reference that a place means for a component of a build.
 *
 * @throws {@link HodError} `output-missing` where nothing is known for a placeholder.
 */
export function referenceAt(
  { text, repository, tag, digest }: ReferencePlace,
  values: TagValues,
  component: string,
): Reference {
  const place = parseRepository(expandRepository(repository, component, values.product));
  const expanded = tag === undefined ? undefined : expandTag(tag, values, component);
  if (expanded !== undefined && 'missing' in expanded) {
    throw new HodError('output-missing', {
      what: 'a build output cannot be named',
      object: `${component}: ${text}`,
      why: `nothing is known for {${expanded.missing}}`,
      next: `say it (\`hod publish --help\` lists the options), or name the build output without {${expanded.missing}}`,
    });
  }
  return { repository: place, tag: expanded?.tag, digest };
}

/** What the placeholders of a place stand for. A version that is still to be decided is not known. */
export function placeValues(product: string, { commit, branch, number, date, version }: Build): TagValues {
  return {
    ...{ product, commit, branch, build: number, date },
    version: version.kind === 'given' ? version.version : undefined,
  };
}

/** Where content of registries comes from: a component that another product builds, or a build output that a builder pushes. */
export const sourceKinds = ['included', 'built'] as const;
export type SourceKind = (typeof sourceKinds)[number];
