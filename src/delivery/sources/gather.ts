import { formatMoment } from '../../core/amounts';
import { setTimeout as delay } from 'node:timers/promises';
import { shortCommit, type CommitId } from '../../core/commit';
import { HodError } from '../../core/errors';
import { annotationKeys } from '../../core/oci/annotations';
import { assembleIndex } from '../../core/oci/assemble';
import { readContent, runnableImages, type ContentNode } from '../../core/oci/content';
import { companionsOf } from '../../core/oci/members';
import { stagedIn } from '../../core/ledger/entries/staged';
import { missingOf } from '../../core/build/component';
import { referenceAt, type OutputPlace } from '../../core/build/output-place';
import { formatReference } from '../../core/oci/reference';
import type { TagValues } from '../../core/tags/template';
import type { StagedComponent, StagedPart } from '../../core/ledger/facts';
import type { Claim } from '../../core/release/gates/build';
import { builtWell } from '../../core/release/gates/publication';
import { refuseUnmet } from '../../core/release/refusal';
import type { Ledger } from '../../ledger/ledger';
import type { RepositoryClient } from '../../registry/repository';
import { outputsOf, requirementOf, type BuiltConfig, type EnvironmentConfig } from '../../workspace/config';
import { carriedWith } from '../referrers/find';
import type { DeliveryItem } from '../delivery';
import { OutputReader, outputFrom, type Output, type OutputContext } from './outputs';

/** A component whose whole content is here, or in the registry: ready to be delivered. */
export interface GatheredItem extends DeliveryItem {
  readonly target: RepositoryClient;
  readonly claims: readonly Claim[];
  /** What was staged of it. */
  readonly staged: readonly StagedPart[];
}

/** Where the components of a product are looked for. */
export interface GatherContext extends OutputContext {
  readonly environment: EnvironmentConfig;
  readonly ledger: Ledger;
  /** How long to wait for what is missing, in milliseconds. */
  readonly wait: number;
}

/** How often the ledger is asked for what was staged while something is missing, in milliseconds. */
const lookEvery = 500;

/**
 * Collects everything that a commit's release is made of: build outputs that are here, and parts
 * that other jobs staged. Waits for what is missing, as long as it may.
 *
 * Throws `missing` where something is not there in the end, `refused` where its build failed.
 */
export async function gather(
  components: readonly BuiltConfig[],
  commit: CommitId,
  context: GatherContext,
): Promise<GatheredItem[]> {
  const { ledger, session, wait } = context;
  const deadline = performance.now() + wait;
  const outputs = new OutputReader(context);
  let said = '';
  for (;;) {
    const { facts } = await ledger.read([{ kind: 'staged', key: commit }]);
    // What is still being written is waited for, like what is not there; at the end of the waiting it is what it is.
    const patient = performance.now() < deadline;
    const findings = await Promise.all(
      components.map((component) => find(component, stagedIn(facts, commit, component.name), outputs, patient)),
    );
    refuseUnmet([builtWell(failuresIn(findings))]);
    const incomplete = findings.filter(({ missing }) => missing.length > 0);
    if (incomplete.length === 0) {
      return Promise.all(findings.map((each) => combine(each, commit, context)));
    }
    if (performance.now() >= deadline) {
      throw missingError(incomplete, commit, wait > 0);
    }
    const waiting = incomplete.map(({ component, missing }) => `${component.name} (${missing.join(', ')})`).join(', ');
    if (waiting !== said) {
      said = waiting;
      session.observer.note(`waiting for ${waiting}`);
    }
    await delay(lookEvery);
  }
}

/** What there is of a component. */
interface Findings {
  component: BuiltConfig;
  outputs: Output[];
  /** What was staged for platforms that no build output here is for. */
  parts: StagedPart[];
  staged: StagedComponent | undefined;
  missing: string[];
  /** Which build output is absent, in words: the first. */
  absentOutput: string | undefined;
}

async function find(
  component: BuiltConfig,
  staged: StagedComponent | undefined,
  reader: OutputReader,
  patient: boolean,
): Promise<Findings> {
  const places = outputsOf(component);
  const found = await Promise.all(places.map((place) => reader.read(component, place, { patient })));
  const outputs = found.filter((each) => each !== undefined);
  const requirement = requirementOf(component);
  const complete = missingOf(requirement, outputs).length === 0;
  const covered = new Set(outputs.flatMap(({ platforms }) => platforms));
  const uncovered = (staged?.parts ?? []).filter(({ platforms }) => !platforms.some((each) => covered.has(each)));
  const parts = complete ? [] : uncovered;
  return {
    component,
    outputs,
    parts,
    staged,
    missing: missingOf(requirement, [...outputs, ...parts]),
    absentOutput: places
      .filter((_, at) => found[at] === undefined)
      .map((place) => absence(place, component, reader.values))[0],
  };
}

function absence(place: OutputPlace, { name }: BuiltConfig, values: TagValues): string {
  return place.kind === 'path'
    ? `${place.path} is not here`
    : `its registry does not have ${formatReference(referenceAt(place, values, name))}`;
}

function failuresIn(findings: readonly Findings[]): { component: string; failure: string }[] {
  return findings.flatMap(({ component, staged }) => {
    const failed = staged?.failed;
    return failed === undefined
      ? []
      : [
          {
            component: component.name,
            failure: `${failed.by} reported on ${formatMoment(failed.at)}: ${failed.reason}`,
          },
        ];
  });
}

/** One build output or part as it is; several, each for its own platforms, as one index. */
async function combine(
  { component: { name }, outputs, parts, staged }: Findings,
  commit: CommitId,
  { environment, session }: GatherContext,
): Promise<GatheredItem> {
  const target = session.client(environment.repositoryOf(name));
  const alongWith = async (node: ContentNode): Promise<Pick<GatheredItem, 'node' | 'referrers'>> => {
    return { node, referrers: await carriedWith(node, environment.carrying) };
  };
  const fetched = parts.map(async (part) => outputFrom(name, await readContent(target, part)));
  const all = [...outputs, ...(await Promise.all(fetched))];
  const [only] = all;
  const base = { component: name, target, staged: staged?.parts ?? [], claims: all.flatMap(({ claims }) => claims) };
  if (only !== undefined && all.length === 1) {
    return { ...base, ...(await alongWith(only.node)), platforms: only.platforms };
  }
  const members = await Promise.all(
    all.map(async ({ node: each }) => ({ node: each, images: await runnableImages(each) })),
  );
  // The version is left out: one commit is one digest, whether it has its version yet or not.
  const images = members.flatMap((each) => each.images);
  const companions = members.flatMap(companionsOf);
  const { node } = assembleIndex(images, { [annotationKeys.revision]: commit }, companions);
  return { ...base, ...(await alongWith(node)), platforms: (await outputFrom(name, node)).platforms };
}

function missingError(incomplete: readonly Findings[], commit: CommitId, waited: boolean): HodError {
  const nowhere = incomplete.every(({ outputs, parts }) => outputs.length + parts.length === 0);
  const reasons = incomplete.map(({ component, outputs, parts, absentOutput }) => {
    const there = [...outputs, ...parts].flatMap(({ platforms }) => platforms);
    const holds = there.length === 0 ? [] : [`there is ${there.join(', ')}`];
    const away = absentOutput === undefined ? [] : [absentOutput];
    const staged = `nothing else is staged of ${shortCommit(commit)}`;
    return `${component.name}: ${[...holds, ...away, staged].join('; ')}`;
  });
  return new HodError(waited ? 'wait-ended' : 'output-missing', {
    what: waited
      ? 'timed out waiting for build outputs'
      : nowhere
        ? 'there is no build output'
        : 'a platform is missing',
    object: incomplete.map(({ component, missing }) => `${component.name}: ${missing.join(', ')}`),
    why: reasons,
    next: `build it, correct \`from:\` in hod.yaml, or \`hod stage\` it where it is built${waited ? '' : ' and wait for it with --wait 10m'}`,
  });
}
