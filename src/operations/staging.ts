import { HodError } from '../core/errors';
import { kindOf } from '../core/oci/bundle';
import { shortDigest } from '../core/oci/digest';
import type { Build } from '../core/release/build';
import { entryAfter, type Action, type LandedImage } from '../core/release/entry';
import type { Facts, StagedPart } from '../core/release/facts';
import { refuseOtherBuilds } from '../core/release/right-build';
import { protectionTag } from '../core/release/staging';
import type { Ledger } from '../ledger/ledger';
import { Carrier, noTransfer } from '../registry/transfer';
import type { Config } from '../workspace/config';
import { landed, type DeliveryImage } from './delivery';
import { readOutput, type ProductPart } from './parts';
import type { StageResult } from './results';
import type { Session } from './session';

/** What is answered about one build output. */
export type StagedResult = StageResult['images'][number];

/** Something to stage: a build output of an image, or a bundle. */
export interface Stageable {
  readonly part: ProductPart;
  readonly path: string;
}

/** What staging works with. */
export interface StageContext {
  readonly config: Config;
  readonly session: Session;
  readonly ledger: Ledger;
  readonly build: Build;
  readonly actor: string;
  readonly platform: string | undefined;
  readonly dryRun: boolean;
}

/** Stages build outputs together: all of them, or none is told to the ledger. */
export async function stageOutputs(outputs: readonly Stageable[], context: StageContext): Promise<StagedResult[]> {
  const { session, config, build, ledger, dryRun } = context;
  const [environment] = config.environments;
  const carrier = new Carrier(session.limit, dryRun, session.observer.transfer);
  const staged = await Promise.all(
    outputs.map(async ({ part, path }) => {
      const { node, platforms, claims } = await readOutput(part, path);
      refuseOtherBuilds(claims, build.commit, undefined);
      refuseOtherPlatform(part, path, platforms, context.platform);
      const image: DeliveryImage = {
        image: part.name,
        node,
        platforms,
        target: session.client(environment.repositoryOf(part.name)),
      };
      const transfer = noTransfer();
      await carrier.carry(node, image.target, transfer);
      const tag = protectionTag(node.manifest.digest);
      if (!dryRun && (await session.limit(() => image.target.resolve(tag))) === undefined) {
        await session.limit(() => image.target.putManifest(tag, node.manifest));
      }
      return { image, transfer };
    }),
  );
  const parts = staged.map(({ image }) => landed(image));
  const known = (facts: Facts): StagedPart[] =>
    parts.flatMap(({ image, digest }) => {
      const before = facts.get('staged', build.commit)?.[image];
      return before?.failed === undefined ? (before?.parts.filter((part) => part.digest === digest) ?? []) : [];
    });
  const before = known((await ledger.read([{ kind: 'staged', key: build.commit }])).facts);
  if (!dryRun) {
    const action: Action = { kind: 'staged', commit: build.commit, environment: environment.name, parts };
    await appendStaging(action, (facts) => known(facts).length === parts.length, context);
  }
  return staged.map(({ image, transfer }) => ({
    ...resultOf(landed(image)),
    kind: kindOf(image.node.manifest),
    outcome: before.some(({ digest }) => digest === image.node.manifest.digest) ? 'unchanged' : 'staged',
    transfer: { ...transfer, requests: image.target.requests },
  }));
}

function resultOf({ image, repository, digest, mediaType, platforms }: LandedImage) {
  return { image, repository, digest, mediaType, platforms };
}

function refuseOtherPlatform(
  { name }: ProductPart,
  path: string,
  platforms: readonly string[],
  wanted: string | undefined,
): void {
  if (wanted !== undefined && (platforms.length !== 1 || platforms[0] !== wanted)) {
    throw new HodError('refused', {
      what: 'this build output is for another platform',
      object: `${name}: ${path}`,
      why: `it is for ${platforms.join(', ') || 'none'}, and --platform says ${wanted}`,
      next: 'build it for that platform, or correct --platform',
    });
  }
}

/** Adds an entry about staging, unless the facts already say what it would. */
export async function appendStaging(
  action: Extract<Action, { kind: 'staged' | 'failed' }>,
  isKnown: (facts: Facts) => boolean,
  { ledger, config, actor, session }: StageContext,
): Promise<void> {
  for (let attempt = 1; ; attempt += 1) {
    const { head, facts } = await ledger.read([{ kind: 'staged', key: action.commit }]);
    if (isKnown(facts)) {
      return;
    }
    const entry = entryAfter(head, { product: config.product, at: new Date().toISOString(), actor, action });
    const milliseconds = await ledger.append([entry], head);
    if (milliseconds !== undefined) {
      session.observer.recorded({ seq: entry.entry.seq, attempt, milliseconds });
      return;
    }
  }
}

/** What was staged, as people who wait read it. */
export function describeStaged({ image, platforms, digest }: StagedResult): string {
  return `staged ${[image, ...platforms].join(' ')} ${shortDigest(digest)}`;
}
