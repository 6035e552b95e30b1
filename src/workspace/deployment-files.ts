import { extname } from 'node:path';
import { realpath } from 'node:fs/promises';
import { spotsIn, type Spots } from '../core/deployment/spots';
import { HodError } from '../core/errors';
import { NotWritten, writeTogether } from '../system/write-file';
import { fileUnusable, readSmallFile } from '../system/plain-files';

/** A deployment file: its text, and the parts of it in which references may stand. */
export interface DeploymentFile {
  readonly text: string;
  readonly spots: Spots;
  /** The file that its path leads to, what is in it, and how that is read as text. */
  readonly path: string;
  readonly bytes: Uint8Array;
  readonly encoding: 'utf8' | 'latin1';
}

/** Reads a deployment file. Throws `file-unusable`. */
export async function readDeploymentFile(path: string): Promise<DeploymentFile> {
  try {
    const file = await realpath(path);
    const bytes = await readSmallFile(file);
    // What is no UTF-8 keeps its bytes in latin-1: references are ASCII in both.
    const encoding = isUtf8(bytes) ? 'utf8' : 'latin1';
    const text = bytes.toString(encoding);
    return { text, spots: spotsIn(text, extname(path).toLowerCase()), path: file, bytes, encoding };
  } catch (error) {
    throw fileUnusable(path, error);
  }
}

/**
 * Writes other texts in the place of deployment files, all or none.
 *
 * @throws `file-unusable`, which says what was written and what was not.
 */
export async function writeDeploymentFiles(
  changes: readonly { readonly file: DeploymentFile; readonly text: string }[],
): Promise<void> {
  // Two paths may lead to one file.
  const files = new Map(
    changes.map(({ file: { path, bytes, encoding }, text }) => {
      return [path, { path, was: bytes, content: Buffer.from(text, encoding) }];
    }),
  );
  try {
    await writeTogether([...files.values()]);
  } catch (error) {
    if (!(error instanceof NotWritten)) {
      throw error;
    }
    const { failed, written } = error;
    const others = [...files.keys()].filter((path) => path !== failed && !written.includes(path));
    throw new HodError(
      'file-unusable',
      {
        what: written.length === 0 ? 'the files were not written' : 'not all files were written',
        object: failed,
        why: error.message,
        next: [
          written.length === 0 ? 'no file was changed' : `changed already: ${written.join(', ')}`,
          ...(others.length === 0 || written.length === 0 ? [] : [`not changed: ${others.join(', ')}`]),
          'mend that, and run the command again',
        ].join('; '),
      },
      { cause: error },
    );
  }
}

function isUtf8(bytes: Buffer): boolean {
  try {
    new TextDecoder('utf-8', { fatal: true, ignoreBOM: true }).decode(bytes);
    return true;
  } catch {
    return false;
  }
}
