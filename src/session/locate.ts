import { existsSync } from 'node:fs';
import { HodError } from '../core/errors';
import { readContent, readContentBelow, type ContentNode } from '../core/oci/content';
import { formatReference, parseReference, type Reference } from '../core/oci/reference';
import type { Compression } from '../core/oci/compression';
import { parseOutputLocation, standardInput } from '../archive/output-images';
import { nearestName } from '../core/nearest';
import { asOneLine } from '../core/text';
import { versionNamed } from '../core/tags/version';
import type { Config } from '../workspace/config';
import type { Session } from './session';

/** Reads a build output: `path` or `path#entry`. `note` is told what takes a while. */
export async function readOutputAt(
  location: string,
  { note, compression = 'gzip' }: { note: (text: string) => void; compression?: Compression },
): Promise<ContentNode> {
  const [{ openOutput }, { packedLayers }] = await Promise.all([
    import('../archive/output'),
    import('../workspace/user-memory'),
  ]);
  const { source, root } = await openOutput(parseOutputLocation(location), { compression, known: packedLayers, note });
  return readContent(source, root);
}

/** Reads the manifest that a reference names, and those below it. Throws `image-missing` where there is none. */
export async function readReference(session: Session, reference: Reference): Promise<ContentNode> {
  const found = await findReference(session, reference);
  if (found === undefined) {
    const { label, tags } = session.client(reference.repository);
    throw new HodError('image-missing', {
      what: 'there is no such image',
      object: formatReference(reference),
      why: `${label} has no ${reference.digest ?? reference.tag ?? ''}`,
      next: await adviceFor(reference, tags.list()),
    });
  }
  return found;
}

/** Reads the manifest that a reference names, and those below it; undefined where there is none. Throws `not-a-reference`. */
export async function findReference(session: Session, reference: Reference): Promise<ContentNode | undefined> {
  const client = session.client(reference.repository);
  const target = reference.digest ?? reference.tag;
  if (target === undefined) {
    throw new HodError('not-a-reference', {
      what: 'this names a repository, not an image in it',
      object: formatReference(reference),
      why: 'it names neither a tag nor a digest',
      next: 'add a :tag or an @digest',
    });
  }
  const manifest = await client.manifests.get(target);
  return manifest && readContentBelow(client, manifest);
}

async function adviceFor({ tag }: Reference, tags: AsyncIterable<string>): Promise<string> {
  const known: string[] = [];
  for await (const each of tags) {
    known.push(each);
  }
  if (known.length === 0) {
    return 'nothing is tagged in this repository; check its name';
  }
  const nearest = tag === undefined ? undefined : nearestName(tag, known);
  return nearest === undefined
    ? `it has ${known.length} other tags, ${known.at(-1) ?? ''} among them`
    : `similar: ${nearest}`;
}

/** Whether a text names something on this machine: `path` or `path#entry`; `-` is standard input. */
export function isHere(text: string): boolean {
  const { path } = parseOutputLocation(text);
  return path === standardInput || existsSync(path);
}

/**
 * The product whose release texts name; undefined where all of them name references, or something on this machine. A folder may be
 * called like an environment or a version: `./prod` is the folder.
 *
 * @throws {@link HodError} `config-missing` for what only a product could tell
 */
export function productNamed(texts: readonly string[], config: Config | undefined): Config | undefined {
  if (config !== undefined) {
    return texts.every((text) => isPlace(text, config)) ? undefined : config;
  }
  const unknown = texts.find((text) => !text.includes('/') && !isHere(text));
  if (unknown !== undefined) {
    throw new HodError('config-missing', {
      what: 'this names no file and no reference',
      object: unknown,
      why: 'an environment, a version and a commit are names of a product, and there is no hod.yaml here',
      next: 'run it where the hod.yaml of the product is, or name that file with --config',
    });
  }
  return undefined;
}

function isPlace(text: string, { environments }: Pick<Config, 'environments'>): boolean {
  const isRelease = environments.some(({ name }) => name === text) || versionNamed(text) !== undefined;
  return text.includes('/') || (isHere(text) && !isRelease);
}

/** Reads what a person named: the build output at a path, where there is one, else a reference. */
export async function locate(session: Session, text: string): Promise<ContentNode> {
  if (isHere(text)) {
    return readOutputAt(text, session.observer);
  }
  return readReference(session, referenceIn(text));
}

function referenceIn(text: string): Reference {
  try {
    return parseReference(text);
  } catch (error) {
    const why = error instanceof HodError ? error.problem.why : undefined;
    throw new HodError(
      'image-missing',
      {
        what: 'there is no such image',
        object: text,
        why: `no file or folder has this name, and as a reference it cannot be read: ${asOneLine(why ?? '')}`,
        next: 'name a build output (an image layout or archive), or registry/name:tag',
      },
      { cause: error },
    );
  }
}
