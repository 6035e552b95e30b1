import type { CommitId } from '../../core/commit';
import type { Build, BuildOptions } from '../../core/build/build';
import type { Following } from '../../core/build/following';
import { placeValues } from '../../core/build/output-place';
import { despiteOf, type Despite, type DespiteOptions } from '../../core/release/despite';
import { gatesOfBuild } from '../../core/release/gates/build';
import { parcelTrusted, publishedAlone } from '../../core/release/gates/publication';
import { takesKind, type ParcelRelease } from '../../core/release/gates/receiving';
import { refuseUnmet } from '../../core/release/refusal';
import type { Session } from '../../session/session';
import { chosenComponents, isBuilt, isIncluded, type ComponentConfig, type Config } from '../../workspace/config';
import { withOutputs } from './chosen-outputs';
import { gather, type GatherContext, type GatheredItem } from './gather';
import { gatherIncluded, type InclusionContext } from './included';
import { readTrustedSigners } from '../../workspace/trust';
import { buildOfParcel, fromParcel, readParcel } from './parcel';
import { readBuild } from './read-build';
import { readFollowing } from './read-following';

/** What says what is published. */
export interface ChosenBuildOptions extends BuildOptions, DespiteOptions {
  /** The components to publish; all where none is named. */
  components?: readonly string[] | undefined;
  /** Build outputs of images, `IMAGE=PLACE`, instead of those that hod.yaml names. */
  from?: readonly string[] | undefined;
  /** A parcel that the release comes in, instead of build outputs. */
  parcel?: string | undefined;
}

/** What is published: a build, or the release of a parcel. */
export interface ChosenBuild {
  readonly parcel: ParcelRelease | undefined;
  readonly chosen: readonly ComponentConfig[];
  readonly build: Build;
  readonly checkedOut: CommitId | undefined;
  readonly following: Following;
  readonly despite: Despite;
}

/** Reads what is published. Throws where a rule refuses it, whatever a registry or the ledger says. */
export async function readChosenBuild(
  config: Config,
  options: ChosenBuildOptions,
  { observer }: Session,
): Promise<ChosenBuild> {
  const { product, components, environments } = config;
  const despite = despiteOf(options);
  const parcel =
    options.parcel === undefined
      ? undefined
      : await readParcel(options.parcel, product, await readTrustedSigners(config));
  refuseUnmet([takesKind(environments[0], parcel)]);
  const named = chosenComponents(config, options.components ?? []);
  const chosen = parcel === undefined ? withOutputs(named, options.from ?? []) : fromParcel(named, parcel);
  const building = parcel === undefined ? options : buildOfParcel(parcel, options);
  const { build, head: checkedOut } = await readBuild(config, building, observer);
  const following = await readFollowing(config, build);
  refuseUnmet([
    publishedAlone(product, chosen, components),
    ...(parcel === undefined ? [] : [parcelTrusted(parcel, despite)]),
    ...gatesOfBuild(build, following, environments[0].name),
  ]);
  return { parcel, chosen, build, checkedOut, following, despite };
}

export async function gatherAll(
  components: readonly ComponentConfig[],
  build: Build,
  context: Omit<GatherContext, 'values'> & InclusionContext,
): Promise<GatheredItem[]> {
  const values = placeValues(context.config.product, build);
  const gathered = await Promise.all([
    gather(components.filter(isBuilt), build.commit, { ...context, values }),
    gatherIncluded(components.filter(isIncluded), build.commit, context),
  ]);
  return gathered.flat();
}
