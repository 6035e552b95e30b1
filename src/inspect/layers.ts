import { readLayer } from '../archive/layer-entries';
import { unpacked } from '../archive/unpack';
import { HodError } from '../core/errors';
import { concernsOf, type Concern } from '../core/oci/concerns';
import { verified, type ContentNode } from '../core/oci/content';
import type { Descriptor } from '../core/oci/descriptor';
import { LayerTree } from '../core/oci/layer-tree';
import type { ImageManifest } from '../core/oci/manifest';
import type { LayersRead } from '../core/oci/inside';

/**
 * The names are held in memory.
 * @limit files and folders in the layers of one image | files | `archive-corrupt`
 */
const memberLimit = 1_000_000;
/**
 * The names are held in memory.
 * @limit names of all files in the layers of one image | characters | `archive-corrupt`
 */
const nameLimit = 128 * 1024 ** 2;

/** Whether the content of each file is hashed, too. */
interface LayerOptions {
  readonly hashing: boolean;
}

/**
 * Reads all layers of an image or a bundle, each once, and keeps no content.
 *
 * @throws {@link HodError} `archive-corrupt` for more members or longer names than the limits.
 */
export async function readLayers(
  { layers: descriptors }: Pick<ImageManifest, 'layers'>,
  source: ContentNode['source'],
  { hashing }: LayerOptions,
): Promise<LayersRead> {
  const tree = new LayerTree();
  const layers: LayersRead['layers'][number][] = [];
  const found: LayersRead['found'][number][] = [];
  let count = 0;
  let names = 0;
  for (const [at, layer] of descriptors.entries()) {
    const number = at + 1;
    const label = `layer ${number} of ${source.label}`;
    tree.nextLayer();
    const before = count;
    const size = await readLayer(unpacked(await openLayer(layer, source), label), {
      label,
      hashing,
      member: ({ secret, leadsOut, ...member }) => {
        count += 1;
        names += member.path.length + (member.link?.length ?? 0);
        tree.add(member);
        if (count > memberLimit || tree.made > memberLimit || names > nameLimit) {
          throw new HodError('archive-corrupt', {
            what: names > nameLimit ? 'the names of files in an image are too long' : 'an image has too many files',
            object: source.label,
            why: `Hod looks at up to ${memberLimit} in its layers, with names of ${nameLimit} characters in all`,
            next: 'build it with less in it',
          });
        }
        const all: Concern[] = [
          ...(secret ? (['secret'] as const) : []),
          ...(leadsOut ? (['leads-out'] as const) : []),
          ...concernsOf(member),
        ];
        found.push(...all.map((concern) => ({ concern, path: member.path, layer: number })));
      },
    });
    layers.push({ number, digest: layer.digest, size: layer.size, unpacked: size, members: count - before });
  }
  return { tree, layers, found };
}

/** The files of an image or a bundle as its layers make them, each with its content hashed: what is compared. */
export async function readHashedTree(manifest: ImageManifest, { source }: ContentNode): Promise<LayerTree> {
  return (await readLayers(manifest, source, { hashing: true })).tree;
}

/** The bytes of a layer, checked against its digest while they pass. */
async function openLayer(layer: Descriptor, source: ContentNode['source']) {
  return source.openPlain?.(layer) ?? verified(await source.openBlob(layer), layer, source.label);
}
