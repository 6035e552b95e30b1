import { statSync } from 'node:fs';
import { join } from 'node:path';
import { parseOutputLocation, standardInput } from '../../archive/output-images';
import { readBundle } from '../../archive/bundle';
import { placeText, referenceAt, type OutputPlace, type PathPlace } from '../../core/build/output-place';
import { HodError } from '../../core/errors';
import { annotationKeys } from '../../core/oci/annotations';
import { runnableImages, type ContentNode } from '../../core/oci/content';
import { formatPlatform } from '../../core/oci/platform';
import { formatReference, type Reference } from '../../core/oci/reference';
import { refuseUnsound } from '../../core/oci/sound-index';
import type { TagValues } from '../../core/tags/template';
import type { Claim } from '../../core/release/gates/build';
import { findReference, isHere, readOutputAt, readReference } from '../../session/locate';
import type { Session } from '../../session/session';
import type { BuiltConfig } from '../../workspace/config';

/** A build output, read: the content of an image, for some platforms or all; or that of a bundle. */
export interface Output {
  readonly node: ContentNode;
  /** `os/arch[/variant]` of everything in it that runs. */
  readonly platforms: readonly string[];
  /** What the images in it say of themselves. */
  readonly claims: readonly Claim[];
}

/** What reading build outputs works with. */
export interface OutputContext {
  readonly session: Session;
  /** What stands for the placeholders in references. */
  readonly values: TagValues;
}

/** Reads build outputs again and again, and each only where it has changed. */
export class OutputReader {
  private readonly known = new Map<string, { mark: string; output: Output }>();

  constructor(private readonly context: OutputContext) {}

  /** What stands for the placeholders in references. */
  get values(): TagValues {
    return this.context.values;
  }

  /**
   * A build output as it is now; undefined where it is not there. `patient`: also where it cannot be
   * read yet, as somebody may be writing it. What a tag leads to counts from the first time that it is there.
   */
  async read(
    component: BuiltConfig,
    place: OutputPlace,
    { patient }: { patient: boolean },
  ): Promise<Output | undefined> {
    const key = `${component.name} ${placeText(place)}`;
    const mark = markOfPlace(component, place);
    const known = this.known.get(key);
    if (mark === undefined || (known !== undefined && known.mark === mark)) {
      return mark === undefined ? undefined : known?.output;
    }
    try {
      const output = await findOutput(component, place, this.context);
      if (output !== undefined) {
        this.known.set(key, { mark, output });
      }
      return output;
    } catch (error) {
      if (patient && error instanceof HodError && ['corrupt', 'missing'].includes(error.fault)) {
        return undefined;
      }
      throw error;
    }
  }
}

/** Of what is read once, the first time that it is there. */
const readOnce = 'read';

/** What changes where a build output is written; undefined where it is not here. */
function markOfPlace(component: BuiltConfig, place: OutputPlace): string | undefined {
  if (place.kind === 'reference') {
    return readOnce;
  }
  const { path } = parseOutputLocation(place.path);
  // The files of a bundle may be anywhere below.
  const isOnce = path === standardInput || (component.kind === 'bundle' && isHere(place.path));
  return isOnce ? readOnce : markOf(path);
}

/** The files that builders write last into a folder. */
const lastWritten = ['index.json', 'manifest.json'];

/**
 * What changes where a build output is written: of a file when and how long, of a folder the same of what is
 * written last. Undefined where it is not there.
 */
export function markOf(path: string): string | undefined {
  const itself = statSync(path, { throwIfNoEntry: false });
  const below = itself?.isDirectory() === true ? lastWritten.map((name) => join(path, name)) : [];
  const found = [itself, ...below.map((each) => statSync(each, { throwIfNoEntry: false }))];
  return (
    itself &&
    found.map((each) => `${each?.mtimeMs ?? 0} ${each?.ino ?? 0} ${each?.isFile() === true ? each.size : 0}`).join(' ')
  );
}

/** Reads a build output of an image, or the files of a bundle. Throws `image-missing` where its registry does not have it. */
export async function readOutput(component: BuiltConfig, place: OutputPlace, context: OutputContext): Promise<Output> {
  if (place.kind === 'path') {
    return readHere(component, place, context);
  }
  const reference = referenceAt(place, context.values, component.name);
  return pushedOutput(component.name, reference, await readReference(context.session, reference), context);
}

/** The same; undefined where its registry does not have it. */
async function findOutput(
  component: BuiltConfig,
  place: OutputPlace,
  context: OutputContext,
): Promise<Output | undefined> {
  if (place.kind === 'path') {
    return readHere(component, place, context);
  }
  const reference = referenceAt(place, context.values, component.name);
  const node = await findReference(context.session, reference);
  return node && pushedOutput(component.name, reference, node, context);
}

async function readHere(component: BuiltConfig, { path }: PathPlace, { session }: OutputContext): Promise<Output> {
  if (component.kind === 'bundle') {
    return { node: await readBundle(component.name, component.files), platforms: [], claims: [] };
  }
  const note = (text: string): void => session.observer.note(text);
  return outputFrom(component.name, await readOutputAt(path, { note, compression: component.compression }));
}

async function pushedOutput(
  component: string,
  reference: Reference,
  node: ContentNode,
  { session }: OutputContext,
): Promise<Output> {
  const output = await outputFrom(component, node);
  if (output.claims.every(({ revision }) => revision === undefined)) {
    session.observer.note(`${formatReference(reference)} does not say which commit ${component} was built from`);
  }
  return output;
}

/** What content is, as far as publishing asks. Throws where an index in it would give a node the wrong image. */
export async function outputFrom(component: string, node: ContentNode): Promise<Output> {
  const runnable = await runnableImages(node);
  refuseUnsound(node, runnable);
  const { annotations } = node.manifest;
  const index = {
    label: component,
    revision: annotations.get(annotationKeys.revision),
    version: annotations.get(annotationKeys.version),
  };
  const claims = runnable.map(({ platform, revision, version }): Claim => {
    return { label: `${component} for ${formatPlatform(platform)}`, revision, version };
  });
  const platforms = runnable.map(({ platform }) => formatPlatform(platform));
  return { node, platforms, claims: node.manifest.kind === 'index' ? [index, ...claims] : claims };
}
