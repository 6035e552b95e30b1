import * as z from 'zod';
import { HodError } from '../errors';
import { isTag, type Tag } from './tag';
import { isDigest, type Digest } from './digest';

declare const repositoryBrand: unique symbol;

/** A repository as people write it: `registry/name`. */
export type RepositoryName = string & { readonly [repositoryBrand]: true };

/** A repository of a registry. */
export interface Repository {
  /** Host, with its port if it has one: `registry.test`, `127.0.0.1:5000`. */
  readonly registry: string;
  /** The name within the registry: `skerry/timetable`. */
  readonly name: string;
}

/** A repository, and a tag or a digest (or both) in it. */
export interface Reference {
  readonly repository: Repository;
  readonly tag?: Tag | undefined;
  readonly digest?: Digest | undefined;
}

// OCI distribution specification, "Pulling manifests": the grammar of <name>.
const nameGrammar = /^[a-z0-9]+(?:(?:\.|_|__|-+)[a-z0-9]+)*(?:\/[a-z0-9]+(?:(?:\.|_|__|-+)[a-z0-9]+)*)*$/;
// RFC 3986 §3.2: a registered name, an IPv4 address or an IPv6 address in brackets, and a port.
const hostGrammar =
  /^(?:\[[0-9a-fA-F:.]+\]|[a-zA-Z0-9](?:[a-zA-Z0-9-]*[a-zA-Z0-9])?(?:\.[a-zA-Z0-9](?:[a-zA-Z0-9-]*[a-zA-Z0-9])?)*)(?::[0-9]{1,5})?$/;

/** A `registry/name` at an edge. */
export const repositoryNameSchema = z.custom<RepositoryName>(
  (value) => typeof value === 'string' && isRepositoryName(value),
  'must be registry/name',
);

/** Whether `text` is `registry/name`. */
function isRepositoryName(text: string): text is RepositoryName {
  const { registry, name } = splitRepository(text);
  return nameGrammar.test(name) && isRegistry(registry);
}

/** Whether `text` is the host of a registry: one with a dot or a port, or localhost. */
export function isRegistry(text: string): boolean {
  return hostGrammar.test(text) && (/[.:]/.test(text) || text === 'localhost') && isAddress(text);
}

/**
 * Whether URLs take a host as it stands: its port exists, its numbers are an address, and it is
 * written in the one form in which it is compared (`127.0.0.1`, and not `127.1`).
 */
function isAddress(host: string): boolean {
  return URL.canParse(`https://${host}`) && new URL(`https://${host}`).hostname === hostOf(host).toLowerCase();
}

/** The host of `registry/name`, and the name. */
function splitRepository(text: string): Repository {
  const slash = text.indexOf('/');
  return { registry: text.slice(0, Math.max(slash, 0)), name: text.slice(slash + 1) };
}

/** Reads `registry/name`. Throws a `usage` error if `text` is not a repository. */
export function parseRepository(text: string): Repository {
  const { registry, name } = splitRepository(text);
  const refuse = (why: string): HodError =>
    new HodError('not-a-repository', {
      what: 'this is not a repository',
      object: text,
      why,
      next: 'write it as registry/name, for example registry.test/skerry/timetable',
    });
  const scheme = /^([a-z]+):\/\//i.exec(text)?.[0];
  if (scheme !== undefined) {
    throw refuse(`it begins with ${scheme}, which is no part of it; \`registries:\` says where plain HTTP is meant`);
  }
  if (!isRegistry(registry)) {
    throw refuse('it does not begin with a registry host (one with a dot, a port, or localhost; ports go up to 65535)');
  }
  const end = /[:@].*$/.exec(name)?.[0];
  if (end !== undefined) {
    throw refuse(`it ends with ${end}, and a tag or digest is no part of it`);
  }
  if (name !== name.toLowerCase()) {
    throw refuse(`the name after the registry has upper-case letters; registries take ${name.toLowerCase()}`);
  }
  if (!nameGrammar.test(name)) {
    throw refuse('the name after the registry may hold lower-case letters, digits, and single . _ - / between them');
  }
  return { registry: registry.toLowerCase(), name };
}

/** Reads the host of a registry, with its port if it has one. Throws a `usage` error if `text` is not one. */
export function parseRegistry(text: string): string {
  return parseRepository(`${text}/any`).registry;
}

/** The parts of a reference, whatever stands in them. */
function splitReference(text: string): { repository: string; tag: string | undefined; digest: string | undefined } {
  const at = text.indexOf('@');
  const digest = at < 0 ? undefined : text.slice(at + 1);
  const beforeDigest = at < 0 ? text : text.slice(0, at);
  const colon = beforeDigest.indexOf(':', beforeDigest.lastIndexOf('/') + 1);
  const tag = colon < 0 ? undefined : beforeDigest.slice(colon + 1);
  return { repository: colon < 0 ? beforeDigest : beforeDigest.slice(0, colon), tag, digest };
}

/** Reads a reference as {@link parseReference} does; undefined where `text` is none. For texts in which most words are none. */
export function referenceOrNone(text: string): Reference | undefined {
  const { repository, tag, digest } = splitReference(text);
  if (
    !isRepositoryName(repository) ||
    (tag !== undefined && !isTag(tag)) ||
    (digest !== undefined && !isDigest(digest))
  ) {
    return undefined;
  }
  const { registry, name } = splitRepository(repository);
  return { repository: { registry: registry.toLowerCase(), name }, tag, digest };
}

/** Reads `registry/name`, `registry/name:tag` or `registry/name[:tag]@digest`. Throws a `usage` error otherwise. */
export function parseReference(text: string): Reference {
  const { tag, digest, ...parts } = splitReference(text);
  const repository = parseRepository(parts.repository);
  if (digest !== undefined && !isDigest(digest)) {
    throw new HodError('not-a-reference', {
      what: 'this is not a reference',
      object: text,
      why: `what follows @ is not a digest: ${digest}`,
      next: 'a digest is sha256: and 64, or sha512: and 128, lower-case hexadecimal digits',
    });
  }
  if (tag !== undefined && !isTag(tag)) {
    throw new HodError('not-a-reference', {
      what: 'this is not a reference',
      object: text,
      why: `${tag} is not a tag`,
      next: 'a tag is up to 128 letters, digits, and . _ -, and begins with none of . -',
    });
  }
  return { repository, tag, digest };
}

/** `registry/name`. */
export function formatRepository({ registry, name }: Repository): RepositoryName {
  const text = `${registry}/${name}`;
  if (!isRepositoryName(text)) {
    throw new Error(`${text} is not a repository`);
  }
  return text;
}

/** `registry/name[:tag][@digest]`. */
export function formatReference(reference: Reference): string {
  const tag = reference.tag === undefined ? '' : `:${reference.tag}`;
  const digest = reference.digest === undefined ? '' : `@${reference.digest}`;
  return `${formatRepository(reference.repository)}${tag}${digest}`;
}

/** The host of a registry without its port. */
export function hostOf(registry: string): string {
  return registry.replace(/:\d+$/, '');
}
