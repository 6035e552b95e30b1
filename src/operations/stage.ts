import type { Actor } from '../core/ledger/entry';
import { HodError } from '../core/errors';
import { formatPlatform, parsePlatform } from '../core/oci/platform';
import type { BuildOptions } from '../core/build/build';
import { placeText, placeValues, referenceAt } from '../core/build/output-place';
import type { TagValues } from '../core/tags/template';
import { stagedIn } from '../core/ledger/entries/staged';
import { missingOf } from '../core/build/component';
import type { Facts } from '../core/ledger/facts';
import { cleanForStaging } from '../core/release/gates/build';
import { refuseUnmet } from '../core/release/refusal';
import { withAnnouncing } from '../announcing/announce';
import { chosenPlace } from '../delivery/sources/chosen-outputs';
import { follow } from '../delivery/sources/follow';
import { isHere } from '../session/locate';
import { readBuild } from '../delivery/sources/read-build';
import { stageOutputs, type PlacedOutput, type StageContext, type StagedOutput } from '../delivery/sources/staging';
import { toStageResult, type StageResult } from '../results/stage';
import { actorOf, prepared } from '../session/actor';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import {
  chosenComponents,
  isBuilt,
  isIncluded,
  outputsOf,
  requirementOf,
  type BuiltConfig,
  type Config,
} from '../workspace/config';

/** What `stage` is told. */
export interface StageOptions extends SessionOptions, Pick<BuildOptions, 'commit'> {
  /** The components to stage; all where none is named. */
  components?: readonly string[] | undefined;
  /** A build output of the one component that is named, instead of those that hod.yaml names. */
  from?: string | undefined;
  /** The platform that the build output must be for. */
  platform?: string | undefined;
  /** Put build outputs in the place of others that were staged for the same platforms. */
  replace?: true | undefined;
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
    const places = placesOf(stageable(config, options.components ?? []), options.from);
    const platform = options.platform === undefined ? undefined : formatPlatform(parsePlatform(options.platform));
    const { build } = await readBuild(config, { commit: options.commit }, session.observer);
    refuseUnmet([cleanForStaging(build)]);
    const actorNow = (): Promise<Actor> => actorOf(options.actor, config, session);
    return withAnnouncing(config, session, { actor: actorNow, dryRun }, async (ledger) => {
      const actor = await prepared(actorNow(), { dryRun });
      const replace = options.replace === true;
      const context: StageContext = { config, session, ledger, build, actor, platform, replace, dryRun };
      const values = placeValues(config.product, build);
      const isThere = (output: PlacedOutput): Promise<boolean> => isPresent(output, session, values);
      const outputs =
        options.follow === undefined
          ? await stageOutputs(await present(places, options, isThere), context)
          : await follow(options.follow, places, options.wait, context);
      const { facts } = await ledger.read([{ kind: 'staged', key: build.commit }]);
      return toStageResult(context, outputs, stillMissing(context, facts, outputs));
    });
  });
}

/** What publishing still waits for, component by component. */
function stillMissing(
  { config, build, dryRun }: StageContext,
  facts: Facts,
  outputs: readonly StagedOutput[],
): StageResult['missing'] {
  return config.components.filter(isBuilt).flatMap((component) => {
    const { name } = component;
    const there = [
      ...(stagedIn(facts, build.commit, name)?.parts ?? []),
      // The files of a bundle are where the product is.
      ...(component.kind === 'bundle' && isHere(component.files) ? [{ platforms: [] }] : []),
      ...(dryRun ? outputs.filter(({ component }) => component === name) : []),
    ];
    const missing = missingOf(requirementOf(component), there);
    return missing.length === 0 ? [] : [{ component: name, missing }];
  });
}

/** The components that are built here, and named. Throws `not-built-here` where one is named that is not. */
function stageable(config: Config, names: readonly string[]): BuiltConfig[] {
  const chosen = chosenComponents(config, names);
  const included = names.length === 0 ? undefined : chosen.find(isIncluded);
  if (included !== undefined) {
    throw new HodError('not-built-here', {
      what: 'an included component is not staged',
      object: included.name,
      why: 'another product builds it; `hod publish` reads it where `includes:` says',
      next: 'leave it out',
    });
  }
  return chosen.filter(isBuilt);
}

function placesOf(components: readonly BuiltConfig[], from: string | undefined): PlacedOutput[] {
  const [only] = components;
  if (from === undefined) {
    return components.flatMap((component) => outputsOf(component).map((place) => ({ component, place })));
  }
  if (only === undefined || components.length > 1 || only.kind === 'bundle') {
    throw new HodError('options-conflict', {
      what: '--from is for one component',
      object: from,
      why: `it would stand for ${components.map(({ name }) => name).join(', ')}`,
      next: 'name the component: `hod stage COMPONENT --from PATH`',
    });
  }
  return [{ component: only, place: chosenPlace(from) }];
}

/** Those build outputs that are there; each job stages what it built. Throws `missing` where there is none. */
async function present(
  outputs: readonly PlacedOutput[],
  { from }: StageOptions,
  isThere: (output: PlacedOutput) => Promise<boolean>,
): Promise<PlacedOutput[]> {
  const found = from === undefined ? await Promise.all(outputs.map(isThere)) : [];
  const there = outputs.filter((_, at) => found[at] !== false);
  if (there.length === 0) {
    throw new HodError('nothing-to-stage', {
      what: 'there is nothing to stage',
      object: outputs.map(({ component, place }) => `${component.name}: ${placeText(place)}`),
      why: 'none of these build outputs exists',
      next: 'build first, or name where the output is: `hod stage COMPONENT --from PLACE`',
    });
  }
  return there;
}

/** Whether a build output is on this machine, or in its registry. */
async function isPresent({ component, place }: PlacedOutput, session: Session, values: TagValues): Promise<boolean> {
  if (place.kind === 'path') {
    return isHere(place.path);
  }
  const { repository, digest, tag } = referenceAt(place, values, component.name);
  const target = digest ?? tag;
  return target !== undefined && (await session.client(repository).manifests.resolve(target)) !== undefined;
}
