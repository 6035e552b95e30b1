import { annotationKeys } from './annotations';
import type { ContentNode } from './content';
import type { Descriptor } from './descriptor';
import { describeManifest } from './manifest';

/** Something that an image layout lists. */
export interface LayoutEntry {
  readonly node: ContentNode;
  /** What it is called there; undefined of what only refers to something else. */
  readonly name: string | undefined;
  readonly annotations?: Readonly<Record<string, string>>;
}

/** The file that says that a folder is an image layout (OCI image specification, image-layout.md). */
export const layoutFile = new TextEncoder().encode('{"imageLayoutVersion":"1.0.0"}');

/** Makes the index.json of an image layout. The same entries give the same bytes. */
export function layoutIndex(entries: readonly LayoutEntry[]): Uint8Array {
  const manifests = entries.map(({ node, name, annotations = {} }) => {
    const { artifactType } = node.manifest;
    const all = { ...annotations, ...(name === undefined ? {} : { [annotationKeys.entryName]: name }) };
    return {
      ...describeManifest(node.manifest),
      ...(artifactType === undefined ? {} : { artifactType }),
      ...(Object.keys(all).length === 0 ? {} : { annotations: all }),
    };
  });
  return new TextEncoder().encode(JSON.stringify({ schemaVersion: 2, manifests }));
}

/** Where content stands in an image layout. */
export function blobName({ digest }: Pick<Descriptor, 'digest'>): string {
  return `blobs/${digest.replace(':', '/')}`;
}
