import { basename, relative, sep } from 'node:path';
import { HodError } from '../core/errors';
import { touchOf } from '../core/release/touched';
import { loadConfig, configName } from '../workspace/config';
import { changedFiles, readGit } from '../workspace/git';
import { partsOf } from './parts';
import type { TouchedResult } from './results';

/** What `touched` is told. */
export interface TouchedOptions {
  config?: string | undefined;
  /** A commit, tag or branch. */
  since: string;
}

/** Which images and bundles have inputs that changed between a commit and what is checked out. */
export async function touched({ config: file, since }: TouchedOptions): Promise<TouchedResult> {
  const config = await loadConfig(file ?? configName);
  const [git, changed] = [await readGit(config.folder), await changedFiles(config.folder, since)];
  if ('gap' in git || changed === undefined) {
    const reading = await readGit(config.folder, since);
    throw new HodError('missing', {
      what: 'it is not known what changed',
      object: since,
      why:
        'gap' in git ? git.gap : 'gap' in reading ? reading.gap : 'it has no common history with what is checked out',
      next: 'give git here the history that it lacks, or build everything',
    });
  }
  return {
    product: config.product,
    since,
    commit: git.facts.commit,
    images: partsOf(config).map((part) => {
      const paths =
        'files' in part ? [...(part.paths ?? []), ...filesUnder(relative(config.folder, part.files))] : part.paths;
      const { files, ...touch } = touchOf({ paths, shared: config.shared }, changed, basename(config.file));
      return { image: part.name, kind: 'files' in part ? 'bundle' : 'image', ...touch, files: [...files] };
    }),
  };
}

/** A bundle is made of its own files. */
function filesUnder(path: string): string[] {
  const pattern = path.split(sep).join('/');
  return [pattern, `${pattern}/**`];
}
