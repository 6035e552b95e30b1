import { existsSync } from 'node:fs';
import { HodError } from '../core/errors';
import { formatPlatform, parsePlatform } from '../core/oci/platform';
import type { Build, BuildOptions } from '../core/release/build';
import { lacking } from '../core/release/staging';
import { parseLayoutLocation } from '../layout/layout';
import { follow } from './follow';
import { partNamed, partsOf, requirementOf, type ProductPart } from './parts';
import { readBuild } from './read-build';
import type { StageResult } from './results';
import { actorOf, withLedger, withProduct, type SessionOptions } from './session';
import { stageOutputs, type Stageable, type StageContext } from './staging';

/** What `stage` is told. */
export interface StageOptions extends SessionOptions, Pick<BuildOptions, 'commit'> {
  /** The images and bundles to stage; all where none is named. */
  images: readonly string[];
  /** A build output of the one image that is named, instead of those that hod.yaml names. */
  from?: string | undefined;
  /** The platform that the build output must be for. */
  platform?: string | undefined;
  /** The folder that a build is writing to; stage each output as soon as it is complete. */
  follow?: string | undefined;
  /** How long to follow a build, in milliseconds. */
  wait?: number | undefined;
  actor?: string | undefined;
  dryRun?: true | undefined;
}

/**
 * Uploads build outputs to the first environment by digest, and tells the ledger; moves no tag. A
 * tag of Hod's own protects each until it is published.
 */
export async function stage(options: StageOptions): Promise<StageResult> {
  return withProduct(options, async (config, session) => {
    const dryRun = options.dryRun === true;
    const parts = options.images.length === 0 ? partsOf(config) : options.images.map((name) => partNamed(config, name));
    const stageable = outputsOf(parts, options.from);
    const build = await readBuild(config.folder, { commit: options.commit }, session.observer);
    refuseDirty(build);
    return withLedger(config, dryRun ? 'read' : 'write', async (ledger) => {
      const platform = options.platform === undefined ? undefined : formatPlatform(parsePlatform(options.platform));
      const actor = actorOf(options.actor);
      const context: StageContext = { config, session, ledger, build, actor, platform, dryRun };
      const images =
        options.follow === undefined
          ? await stageOutputs(present(stageable, options), context)
          : await follow(options.follow, stageable, options.wait, context);
      const { facts } = await ledger.read([{ kind: 'staged', key: build.commit }]);
      const staged = facts.get('staged', build.commit) ?? {};
      return {
        product: config.product,
        commit: build.commit,
        environment: config.environments[0].name,
        dryRun,
        images,
        lacking: partsOf(config)
          .map((part) => ({
            image: part.name,
            lacks: lacking(requirementOf(part), [
              ...(staged[part.name]?.parts ?? []),
              // The files of a bundle are where the product is.
              ...('files' in part && existsSync(part.files) ? [{ platforms: [] }] : []),
              ...(dryRun ? images.filter(({ image }) => image === part.name) : []),
            ]),
          }))
          .filter(({ lacks }) => lacks.length > 0),
      };
    });
  });
}

/** Another job would publish it as what the commit holds. */
function refuseDirty({ dirty, commit }: Build): void {
  if (dirty) {
    throw new HodError('refused', {
      what: 'what was built from a dirty working copy is not staged',
      object: commit,
      why: 'files were changed since that commit, so it does not hold what was built',
      next: 'commit the changes and build again; `git status` lists them',
    });
  }
}

function outputsOf(parts: readonly ProductPart[], from: string | undefined): Stageable[] {
  const [only] = parts;
  if (from === undefined) {
    return parts.flatMap((part) => ('files' in part ? [part.files] : part.from).map((path) => ({ part, path })));
  }
  if (only === undefined || parts.length > 1 || 'files' in only) {
    throw new HodError('usage', {
      what: '--from is for one image',
      object: from,
      why: `it would stand for ${parts.map(({ name }) => name).join(', ')}`,
      next: 'name the image: `hod stage IMAGE --from PATH`',
    });
  }
  return [{ part: only, path: from }];
}

/** Those build outputs that are here; each job stages what it built. Throws `missing` where there is none. */
function present(all: readonly Stageable[], { from }: StageOptions): Stageable[] {
  const here = from === undefined ? all.filter(({ path }) => existsSync(parseLayoutLocation(path).path)) : [...all];
  if (here.length === 0) {
    throw new HodError('missing', {
      what: 'there is nothing to stage',
      object: all.map(({ part, path }) => `${part.name}: ${path}`).join('\n'),
      why: 'none of these build outputs is here',
      next: 'build first, or name where the output is: `hod stage IMAGE --from PATH`',
    });
  }
  return here;
}
