import { basename, relative, sep } from 'node:path';
import { HodError } from '../core/errors';
import { touchOf } from '../core/build/touched';
import type { TouchedResult } from '../results/touched';
import { configName, isBuilt, loadConfig, type BuiltConfig, type Config } from '../workspace/config';
import { changedFiles, commitNamed } from '../workspace/git';

/** What `touched` is told. */
export interface TouchedOptions {
  config?: string | undefined;
  /** A commit, tag or branch. */
  since: string;
}

/** Which components have inputs that changed between a commit and what is checked out. */
export async function touched({ config: file, since }: TouchedOptions): Promise<TouchedResult> {
  const config = await loadConfig(file ?? configName);
  const [head, changed] = await Promise.all([commitNamed(config.folder, 'HEAD'), changedFiles(config.folder, since)]);
  if ('gap' in head || changed === undefined) {
    const reading = await commitNamed(config.folder, since);
    throw new HodError('changes-unknown', {
      what: 'it is not known what changed',
      object: since,
      why:
        'gap' in head ? head.gap : 'gap' in reading ? reading.gap : 'it has no common history with what is checked out',
      next: 'give git here the history that it lacks, or build everything',
    });
  }
  return {
    product: config.product,
    since,
    commit: head.id,
    components: config.components.filter(isBuilt).map((component) => {
      const inputs = { own: inputsOf(component, config), shared: config.sharedInputs };
      const { files, ...touch } = touchOf(inputs, changed, basename(config.file));
      return { component: component.name, kind: component.kind, ...touch, files: [...files] };
    }),
  };
}

/** A bundle is made of its own files, whatever else hod.yaml names. */
function inputsOf(component: BuiltConfig, { folder }: Config): readonly string[] | undefined {
  if (component.kind === 'image') {
    return component.inputs;
  }
  const path = relative(folder, component.files).split(sep).join('/');
  return [...(component.inputs ?? []), path, `${path}/**`];
}
