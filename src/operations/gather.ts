import { existsSync } from 'node:fs';
import { setTimeout as delay } from 'node:timers/promises';
import { HodError } from '../core/errors';
import { annotationKeys } from '../core/oci/annotations';
import { assembleIndex } from '../core/oci/assemble';
import { readContent, runnableImages } from '../core/oci/content';
import type { StagedImage, StagedPart } from '../core/release/facts';
import type { Claim } from '../core/release/right-build';
import { lacking } from '../core/release/staging';
import { parseLayoutLocation } from '../layout/layout';
import type { Ledger } from '../ledger/ledger';
import type { EnvironmentConfig } from '../workspace/config';
import type { DeliveryImage } from './delivery';
import { outputOf, readOutput, requirementOf, type Output, type ProductPart } from './parts';
import type { Session } from './session';

/** Something that is ready to be delivered. */
export interface Gathered extends DeliveryImage {
  readonly claims: readonly Claim[];
  /** What was staged of it. */
  readonly staged: readonly StagedPart[];
}

/** Where the parts of a product are looked for. */
export interface GatherContext {
  readonly environment: EnvironmentConfig;
  readonly session: Session;
  readonly ledger: Ledger;
  /** How long to wait for what is missing, in milliseconds. */
  readonly wait: number;
}

/** How often the ledger is asked for what was staged while something is missing, in milliseconds. */
const lookEvery = 500;

/**
 * Collects everything that a commit's release is made of: build outputs that are here, and those
 * that other jobs staged. Waits for what is missing, as long as it may.
 *
 * Throws `missing` where something is not there in the end, `refused` where its build failed.
 */
export async function gather(
  parts: readonly ProductPart[],
  commit: string,
  context: GatherContext,
): Promise<Gathered[]> {
  const { ledger, session, wait } = context;
  const deadline = performance.now() + wait;
  let said = '';
  for (;;) {
    const { facts } = await ledger.read([{ kind: 'staged', key: commit }]);
    const staged = facts.get('staged', commit) ?? {};
    const found = await Promise.all(parts.map((part) => find(part, staged[part.name])));
    const gaps = found.filter(({ lacks }) => lacks.length > 0);
    refuseFailed(found);
    if (gaps.length === 0) {
      return Promise.all(found.map((each) => combine(each, commit, context)));
    }
    if (performance.now() >= deadline) {
      throw missingError(gaps, commit, wait > 0);
    }
    const waiting = gaps.map(({ part, lacks }) => `${part.name} (${lacks.join(', ')})`).join(', ');
    if (waiting !== said) {
      said = waiting;
      session.observer.note(`waiting for ${waiting}`);
    }
    await delay(lookEvery);
  }
}

/** What there is of an image or bundle. */
interface Findings {
  part: ProductPart;
  local: Output[];
  /** What was staged for platforms that no build output here is for. */
  staged: StagedPart[];
  /** Everything that was staged. */
  all: StagedPart[];
  lacks: string[];
  failure: string | undefined;
  /** The first build output that is not here. */
  absent: string | undefined;
}

function refuseFailed(found: readonly Findings[]): void {
  const failed = found.filter(({ failure }) => failure !== undefined);
  if (failed.length > 0) {
    throw new HodError('refused', {
      what: 'this build failed',
      object: failed.map(({ part }) => part.name).join(', '),
      why: [...new Set(failed.map(({ failure }) => failure))].join('\n'),
      next: 'build it again, and `hod stage` it: that takes this back',
    });
  }
}

async function find(part: ProductPart, known: StagedImage | undefined): Promise<Findings> {
  const paths = 'files' in part ? [part.files] : part.from;
  const present = paths.filter((path) => existsSync(parseLayoutLocation(path).path));
  const local = await Promise.all(present.map((path) => readOutput(part, path)));
  const requirement = requirementOf(part);
  const complete = lacking(requirement, local).length === 0;
  const covered = new Set(local.flatMap(({ platforms }) => platforms));
  const all = known?.parts ?? [];
  const staged = complete ? [] : all.filter(({ platforms }) => !platforms.some((platform) => covered.has(platform)));
  const { failed } = known ?? {};
  return {
    part,
    local,
    staged,
    all,
    lacks: lacking(requirement, [...local, ...staged]),
    failure: failed === undefined ? undefined : `${failed.by} said at ${failed.at}: ${failed.reason}`,
    absent: paths.find((path) => !present.includes(path)),
  };
}

/** One build output as it is; several, each for its own platforms, as one index. */
async function combine(
  { part, local, staged, all }: Findings,
  commit: string,
  { environment, session }: GatherContext,
): Promise<Gathered> {
  const target = session.client(environment.repositoryOf(part.name));
  const fetched = staged.map(async ({ digest, mediaType, size }) =>
    outputOf(part.name, await readContent(target, { digest, mediaType, size })),
  );
  const outputs = [...local, ...(await Promise.all(fetched))];
  const [only] = outputs;
  const base = { image: part.name, target, staged: all, claims: outputs.flatMap(({ claims }) => claims) };
  if (only !== undefined && outputs.length === 1) {
    return { ...base, node: only.node, platforms: only.platforms };
  }
  const members = (await Promise.all(outputs.map(({ node }) => runnableImages(node)))).flat();
  // The version is left out: one commit is one digest, whether it has its version yet or not.
  const { node } = assembleIndex(members, { [annotationKeys.revision]: commit });
  return { ...base, node, platforms: (await outputOf(part.name, node)).platforms };
}

function missingError(gaps: readonly Findings[], commit: string, waited: boolean): HodError {
  const object = gaps.map(({ part, lacks }) => `${part.name}: ${lacks.join(', ')}`).join('\n');
  const nowhere = gaps.every(({ local, staged }) => local.length + staged.length === 0);
  const reasons = gaps.map(({ part, local, staged, absent }) => {
    const there = [...local, ...staged].flatMap(({ platforms }) => platforms);
    const holds = there.length === 0 ? [] : [`there is ${there.join(', ')}`];
    const away = absent === undefined ? [] : [`${absent} is not here`];
    return `${part.name}: ${[...holds, ...away, `nothing else is staged of ${commit.slice(0, 12)}`].join('; ')}`;
  });
  return new HodError('missing', {
    what: waited ? 'what was waited for did not come' : nowhere ? 'there is no build output' : 'a platform is missing',
    object,
    why: reasons.join('\n'),
    next: `build it, correct \`from:\` in hod.yaml, or \`hod stage\` it where it is built${waited ? '' : ' and wait for it with --wait 10m'}`,
  });
}
