import { allBytes } from '../../core/bytes';
import { verified, readContent, type ContentNode, type ContentSource } from '../../core/oci/content';
import type { Descriptor } from '../../core/oci/descriptor';
import type { Digest } from '../../core/oci/digest';
import { manifestSizeLimit } from '../../core/oci/manifest';
import { typeOf } from '../../core/oci/referrers';
import { settleAll } from '../../system/promises';
import type { Referrer } from './find';

/** A record that was read, and its document. */
export interface OwnRecord {
  readonly node: ContentNode;
  readonly bytes: Uint8Array;
}

/** Returns a record as a referrer of the manifest that it is about. */
export function recordReferrer(subject: Digest, artifact: ContentNode): Referrer {
  const { manifest } = artifact;
  return { subject, digest: manifest.digest, type: typeOf(manifest), read: () => Promise.resolve(artifact) };
}

/** Reads the records of some types among listed referrers; without those that hold no document, or one that is larger than any of Hod. */
export async function readOwnRecords(
  source: ContentSource,
  listed: readonly Descriptor[],
  isOwn: (type: string | undefined) => boolean,
): Promise<OwnRecord[]> {
  const read = await settleAll(
    listed
      .filter(({ artifactType }) => isOwn(artifactType))
      .map(async (descriptor) => {
        const node = await readContent(source, descriptor);
        const [blob] = node.manifest.kind === 'image' ? node.manifest.layers : [];
        if (blob === undefined || blob.size > manifestSizeLimit) {
          return [];
        }
        return [{ node, bytes: await allBytes(verified(await source.openBlob(blob), blob, source.label)) }];
      }),
  );
  return read.flat();
}
