import { existsSync, readdirSync, statSync } from 'node:fs';
import { open } from 'node:fs/promises';
import { join } from 'node:path';
import { newLayout, writeLayoutFolder, writeLayoutTar } from '../archive/layout-writer';
import { HodError } from '../core/errors';
import { heldReleases } from '../delivery/held-releases';
import { parcelOfImages, parcelOfReleases, type Parcel } from '../delivery/parcel';
import { toPackResult, type PackResult } from '../results/pack';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { productNamed } from '../session/locate';
import { withProductIfAny, type Session, type SessionOptions } from '../session/session';
import type { Config } from '../workspace/config';

/** What `pack` is told. */
export interface PackOptions extends SessionOptions {
  /** An environment, a version or a commit; or references and build outputs. */
  what: readonly string[];
  /** A folder, or a file whose name ends with .tar. */
  out: string;
  /** A version, a commit or a parcel whose layers the other side has: they are left out. */
  since?: string | undefined;
  dryRun?: true | undefined;
}

/**
 * Writes images, or a release with what the ledger says of it, as an image layout: a folder, or one .tar.
 *
 * @throws {@link HodError} `folder-in-use` for a folder that holds something else.
 */
export async function pack(options: PackOptions): Promise<PackResult> {
  const { out } = options;
  const dryRun = options.dryRun === true;
  return withProductIfAny(options, async (config, session) => {
    const isTar = /\.tar$/.test(out);
    await refuseOther(out, { isTar });
    const parcel = await readParcel(options, config, session);
    const layout = newLayout(parcel.entries, new Set(parcel.leftOut?.blobs.map(({ digest }) => digest)));
    const kept = dryRun ? 0 : await (isTar ? writeLayoutTar(out, layout) : writeLayoutFolder(out, layout));
    const form: PackResult['form'] = isTar ? 'tar' : 'folder';
    const { contents, size } = layout;
    const product = config?.product ?? null;
    return toPackResult({ place: out, form, product, dryRun, kept, blobs: contents.length, size }, parcel);
  });
}

/** What somebody named: references and build outputs, or a release of the product. */
async function readParcel(
  { what, since }: Pick<PackOptions, 'what' | 'since'>,
  config: Config | undefined,
  session: Session,
): Promise<Parcel> {
  const [only = '', ...others] = what;
  const product = productNamed(what, config);
  if (product === undefined) {
    if (since !== undefined) {
      throw new HodError('options-conflict', {
        what: 'only parcels of a release leave layers out',
        object: `--since ${since}`,
        why: `${what.join(' ')} names images, and nobody knows which release of them the other side has`,
        next: 'leave --since out, or name an environment or a version, with a hod.yaml',
      });
    }
    return parcelOfImages(what, session);
  }
  if (others.length > 0) {
    throw new HodError('options-conflict', {
      what: 'a release is packed by itself',
      object: what.join(' '),
      why: 'an environment, a version or a commit stands for all images of a release',
      next: 'name one of them, or references alone',
    });
  }
  return withLedger(product, session, 'read', async (ledger) => {
    await refuseEmpty(product, ledger);
    const context = { config: product, session, ledger };
    return parcelOfReleases(await heldReleases(only, context), since, context);
  });
}

/** A layout may be there, or what an ended run left of it; nothing else is written over. */
async function refuseOther(out: string, { isTar }: { readonly isTar: boolean }): Promise<void> {
  const why = existsSync(out) ? await whyTheirs(out, { isTar }) : undefined;
  if (why !== undefined) {
    throw new HodError('folder-in-use', {
      what: 'something else is there',
      object: out,
      why,
      next: 'name another place with --out',
    });
  }
}

async function whyTheirs(out: string, { isTar }: { readonly isTar: boolean }): Promise<string | undefined> {
  if (statSync(out).isDirectory()) {
    const isLayout = ['oci-layout', 'blobs'].some((name) => existsSync(join(out, name)));
    return !isTar && (isLayout || readdirSync(out).length === 0)
      ? undefined
      : 'it is a folder, and holds no image layout';
  }
  if (!isTar) {
    return 'it is a file, and its name does not end with .tar';
  }
  return (await isLayoutTar(out)) ? undefined : 'it is a file that Hod did not pack';
}

/** Whether a file begins as `pack` writes it. */
async function isLayoutTar(path: string): Promise<boolean> {
  const handle = await open(path);
  try {
    const { buffer, bytesRead } = await handle.read(Buffer.alloc(11), 0, 11, 0);
    return bytesRead === 0 || buffer.toString('latin1') === 'oci-layout\0';
  } finally {
    await handle.close();
  }
}
