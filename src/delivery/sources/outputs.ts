import { existsSync, statSync } from 'node:fs';
import { join } from 'node:path';
import { parseLayoutLocation } from '../../archive/layout';
import { readBundle } from '../../archive/bundle';
import { HodError } from '../../core/errors';
import { annotationKeys } from '../../core/oci/annotations';
import { runnableImages, type ContentNode } from '../../core/oci/content';
import { formatPlatform } from '../../core/oci/platform';
import { refuseUnsound } from '../../core/oci/sound-index';
import type { Claim } from '../../core/release/gates/build';
import { readLayout } from '../../session/locate';
import type { ComponentConfig } from '../../workspace/config';

/** A build output, read: the content of an image, for some platforms or all; or that of a bundle. */
export interface Output {
  readonly node: ContentNode;
  /** `os/arch[/variant]` of everything in it that runs. */
  readonly platforms: readonly string[];
  /** What the images in it say of themselves. */
  readonly claims: readonly Claim[];
}

/** Whether there is a build output at a place (`path` or `path#entry`). */
export function isThere(location: string): boolean {
  return existsSync(parseLayoutLocation(location).path);
}

/** Reads build outputs again and again, and each only where it has changed. */
export class OutputReader {
  private readonly known = new Map<string, { mark: string; output: Output }>();

  /**
   * A build output as it is now; undefined where it is not there. `patient`: also where it cannot be
   * read yet, as somebody may be writing it.
   */
  async read(component: ComponentConfig, location: string, patient: boolean): Promise<Output | undefined> {
    const mark = markOf(component, parseLayoutLocation(location).path);
    const known = this.known.get(location);
    if (mark === undefined || (known !== undefined && known.mark === mark)) {
      return mark === undefined ? undefined : known?.output;
    }
    try {
      const output = await readOutput(component, location);
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

/**
 * What changes where a build output is written: of a file when and how long, of a layout the same of what is
 * written last. Undefined where it is not there. A bundle, whose files may be anywhere below, is read once.
 */
function markOf({ kind }: ComponentConfig, path: string): string | undefined {
  const found = statSync(path, { throwIfNoEntry: false });
  if (found === undefined || kind === 'bundle') {
    return found && 'read';
  }
  const last = found.isDirectory() ? statSync(join(path, 'index.json'), { throwIfNoEntry: false }) : found;
  return `${found.mtimeMs} ${last?.mtimeMs ?? 0} ${last?.size ?? 0}`;
}

/** Reads a build output of an image, or the files of a bundle. */
export async function readOutput(component: ComponentConfig, location: string): Promise<Output> {
  return component.kind === 'bundle'
    ? { node: await readBundle(component.name, component.files), platforms: [], claims: [] }
    : outputFrom(component.name, await readLayout(location));
}

/** What content is, as far as publishing asks. Throws where an index in it would give a node the wrong image. */
export async function outputFrom(image: string, node: ContentNode): Promise<Output> {
  const runnable = await runnableImages(node);
  refuseUnsound(node, runnable);
  const { annotations } = node.manifest;
  const index = {
    label: image,
    revision: annotations.get(annotationKeys.revision),
    version: annotations.get(annotationKeys.version),
  };
  const claims = runnable.map(({ platform, revision, version }): Claim => {
    return { label: `${image} for ${formatPlatform(platform)}`, revision, version };
  });
  const platforms = runnable.map(({ platform }) => formatPlatform(platform));
  return { node, platforms, claims: node.manifest.kind === 'index' ? [index, ...claims] : claims };
}
