import { basename, relative, sep } from 'node:path';
import { HodError } from '../core/errors';
import { touchOf } from '../core/build/touched';
import type { TouchedResult } from '../results/touched';
import { shortCommit } from '../core/commit';
import { servedIn } from '../core/ledger/environment';
import { withLedger } from '../session/open-ledger';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import { isBuilt, type BuiltConfig, type Config } from '../workspace/config';
import { changedFiles, commitNamed, differingFiles } from '../workspace/git';

/** What `touched` is told. */
export interface TouchedOptions extends SessionOptions {
  /** A commit, tag or branch; what the first environment serves of each component where none is named. */
  since?: string | undefined;
}

/** Files that changed since something, or why everything counts as changed. */
type Changes = { readonly since: string; readonly files: readonly string[] } | { readonly reason: string };

/** Which components have inputs that changed between a commit and what is checked out. */
export async function touched(options: TouchedOptions): Promise<TouchedResult> {
  return withProduct(options, async (config, session) => {
    const { folder } = config;
    const head = await commitNamed(folder, 'HEAD');
    if ('gap' in head) {
      throw changesUnknown(options.since ?? 'HEAD', head.gap);
    }
    const { since } = options;
    const named = since === undefined ? undefined : await sinceCommit(since, config);
    const changes = named === undefined ? await sinceServed(config, session) : () => named;
    return {
      product: config.product,
      since: since ?? null,
      commit: head.id,
      components: config.components.filter(isBuilt).map((component) => {
        const inputs = { own: inputsOf(component, config), shared: config.sharedInputs };
        const found = changes(component.name);
        const { files, ...touch } =
          'reason' in found
            ? { touched: true, files: [], reason: found.reason }
            : touchOf(inputs, found.files, basename(config.file));
        const compared = 'reason' in found ? null : found.since;
        return { component: component.name, kind: component.kind, since: compared, ...touch, files: [...files] };
      }),
    };
  });
}

async function sinceCommit(since: string, { folder }: Config): Promise<Changes> {
  const files = await changedFiles(folder, since);
  if (files === undefined) {
    const reading = await commitNamed(folder, since);
    throw changesUnknown(since, 'gap' in reading ? reading.gap : 'it has no common history with what is checked out');
  }
  return { since, files };
}

/** What changed of each component since the commit that the first environment serves of it. */
async function sinceServed(config: Config, session: Session): Promise<(component: string) => Changes> {
  const [{ name }] = config.environments;
  const served = await withLedger(config, session, 'read', async (ledger) =>
    servedIn((await ledger.read([{ kind: 'environment', key: name }])).facts, name),
  );
  const commits = [...new Set(served.map(({ commit }) => commit))];
  const differences = new Map(
    await Promise.all(commits.map(async (commit) => [commit, await differingFiles(config.folder, commit)] as const)),
  );
  return (component) => {
    const commit = served.find((each) => each.component === component)?.commit;
    const files = commit === undefined ? undefined : differences.get(commit);
    if (commit === undefined) {
      return { reason: `${name} does not serve it yet` };
    }
    return files === undefined
      ? { reason: `${name} serves it of ${shortCommit(commit)}, which git here does not have` }
      : { since: commit, files };
  };
}

function changesUnknown(since: string, why: string): HodError {
  return new HodError('changes-unknown', {
    what: 'git cannot tell what changed',
    object: since,
    why,
    next: 'fetch the missing git history, or build everything',
  });
}

/** A bundle is made of its own files, whatever else hod.yaml names. */
function inputsOf(component: BuiltConfig, { folder }: Config): readonly string[] | undefined {
  if (component.kind === 'image') {
    return component.inputs;
  }
  const path = relative(folder, component.files).split(sep).join('/');
  return [...(component.inputs ?? []), path, `${path}/**`];
}
