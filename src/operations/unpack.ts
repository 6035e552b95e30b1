import { writeFilesOf, type UnpackedFiles } from '../archive/layer-files';
import { HodError, messageOf, systemErrorCode } from '../core/errors';
import { kindOf } from '../core/oci/bundle';
import type { ContentNode } from '../core/oci/content';
import { contentsOf, heldReleases } from '../delivery/held-releases';
import { toUnpackResult, type UnpackResult } from '../results/unpack';
import { locate, productNamed } from '../session/locate';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { withProductIfAny, type Session, type SessionOptions } from '../session/session';
import { FolderInUse, writeFolder } from '../system/write-folder';
import type { Config } from '../workspace/config';

/** What `unpack` is told. */
export interface UnpackOptions extends SessionOptions {
  /** A reference or a build output; or an environment, a version or a commit. */
  what: string;
  /** The folder that the files go into. */
  folder: string;
  dryRun?: true | undefined;
}

/** Something whose files are written, and the folder that they go into, within the one that is written. */
interface Artifact {
  readonly component: string | undefined;
  readonly node: ContentNode;
}

/**
 * Writes the files of a bundle, or of another artifact whose layers are files, into a folder; of a release, each of its bundles into a
 * folder of its own. All of them, or none.
 *
 * @throws {@link HodError} `folder-in-use`; `file-unusable`; `files-missing` for a release without bundles
 */
export async function unpack(options: UnpackOptions): Promise<UnpackResult> {
  const { what, folder } = options;
  const dryRun = options.dryRun === true;
  return withProductIfAny(options, async (config, session) => {
    const artifacts = await readArtifacts(what, config, session);
    const { answer, isUnchanged } = await writing(folder, () =>
      writeFolder(
        folder,
        async (writer) => {
          const written: (Artifact & UnpackedFiles)[] = [];
          for (const artifact of artifacts) {
            written.push({ ...artifact, ...(await writeFilesOf(artifact.node, writer, artifact.component ?? '')) });
          }
          return written;
        },
        { keep: !dryRun },
      ),
    );
    return toUnpackResult({ folder, dryRun, outcome: isUnchanged ? 'unchanged' : 'written' }, answer);
  });
}

async function readArtifacts(what: string, config: Config | undefined, session: Session): Promise<Artifact[]> {
  const product = productNamed([what], config);
  if (product === undefined) {
    return [{ component: undefined, node: await locate(session, what) }];
  }
  return withLedger(product, session, 'read', async (ledger) => {
    await refuseEmpty(product, ledger);
    const context = { config: product, session, ledger };
    const all = await contentsOf(await heldReleases(what, context), context);
    const artifacts = all.filter(({ node }) => kindOf(node.manifest) !== 'image');
    if (artifacts.length === 0) {
      throw new HodError('files-missing', {
        what: 'this release has no files to unpack',
        object: what,
        why: `it holds images alone: ${all.map(({ component }) => component).join(', ')}`,
        next: 'write images as an image layout: `hod pack`; look into one with `hod inside`',
      });
    }
    return artifacts;
  });
}

async function writing<T>(folder: string, work: () => Promise<T>): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (error instanceof FolderInUse) {
      throw new HodError('folder-in-use', {
        what: 'something else is there',
        object: folder,
        why: messageOf(error),
        next: 'name another folder, or remove this one',
      });
    }
    if (error instanceof HodError || systemErrorCode(error) === undefined) {
      throw error;
    }
    throw new HodError(
      'file-unusable',
      {
        what: 'the files cannot be written there',
        object: folder,
        why: messageOf(error),
        next: 'make room, or name another folder; nothing was written',
      },
      { cause: error },
    );
  }
}
