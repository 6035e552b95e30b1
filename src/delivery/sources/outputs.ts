import { statSync } from 'node:fs';
import { join } from 'node:path';
import { parseOutputLocation } from '../../archive/output-images';
import { readBundle } from '../../archive/bundle';
import { HodError } from '../../core/errors';
import { annotationKeys } from '../../core/oci/annotations';
import { runnableImages, type ContentNode } from '../../core/oci/content';
import { formatPlatform } from '../../core/oci/platform';
import { refuseUnsound } from '../../core/oci/sound-index';
import type { Claim } from '../../core/release/gates/build';
import { isHere, readOutputAt } from '../../session/locate';
import type { BuiltConfig } from '../../workspace/config';

/** A build output, read: the content of an image, for some platforms or all; or that of a bundle. */
export interface Output {
  readonly node: ContentNode;
  /** `os/arch[/variant]` of everything in it that runs. */
  readonly platforms: readonly string[];
  /** What the images in it say of themselves. */
  readonly claims: readonly Claim[];
}

/** Reads build outputs again and again, and each only where it has changed. */
export class OutputReader {
  private readonly known = new Map<string, { mark: string; output: Output }>();

  /** @param note Told what takes a while. */
  constructor(private readonly note: (text: string) => void) {}

  /**
   * A build output as it is now; undefined where it is not there. `patient`: also where it cannot be
   * read yet, as somebody may be writing it.
   */
  async read(component: BuiltConfig, location: string, { patient }: { patient: boolean }): Promise<Output | undefined> {
    const { path } = parseOutputLocation(location);
    // The files of a bundle may be anywhere below: it is read once.
    const mark = component.kind === 'bundle' && isHere(location) ? 'read' : markOf(path);
    const known = this.known.get(location);
    if (mark === undefined || (known !== undefined && known.mark === mark)) {
      return mark === undefined ? undefined : known?.output;
    }
    try {
      const output = await readOutput(component, location, this.note);
      this.known.set(location, { mark, output });
      return output;
    } catch (error) {
      if (patient && error instanceof HodError && ['corrupt', 'missing'].includes(error.fault)) {
        return undefined;
      }
      throw error;
    }
  }
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

/** Reads a build output of an image, or the files of a bundle. */
export async function readOutput(
  component: BuiltConfig,
  location: string,
  note: (text: string) => void,
): Promise<Output> {
  if (component.kind === 'bundle') {
    return { node: await readBundle(component.name, component.files), platforms: [], claims: [] };
  }
  const { compression } = component;
  return outputFrom(component.name, await readOutputAt(location, { note, compression }));
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
