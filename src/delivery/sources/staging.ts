import type { Actor } from '../../core/ledger/entry';
import { shortDigest } from '../../core/oci/digest';
import type { ContentKind } from '../../core/oci/bundle';
import type { Action } from '../../core/ledger/entries';
import { replaces, stagedIn } from '../../core/ledger/entries/staged';
import { factsOfRemovals } from '../../core/ledger/entries/there-again';
import type { Build } from '../../core/build/build';
import { placeText, placeValues, type OutputPlace } from '../../core/build/output-place';
import { protectionTag } from '../../core/build/protection';
import { removalOf, type Facts, type StagedComponent } from '../../core/ledger/facts';
import { namedPlatform, rightBuild } from '../../core/release/gates/build';
import { stagedOnce } from '../../core/release/gates/staging';
import { refuseUnmet } from '../../core/release/refusal';
import type { PlacedComponent } from '../../core/ledger/release';
import type { Ledger } from '../../ledger/ledger';
import type { RepositoryClient } from '../../registry/repository';
import type { Session } from '../../session/session';
import type { BuiltConfig, Config } from '../../workspace/config';
import {
  referrerFacts,
  carryReferrers,
  listReferrers,
  unknownTo,
  type ItemReferrers,
  type CarriedReferrers,
} from '../referrers/carry';
import { carriedWith } from '../referrers/find';
import { addTransfer, Carrier, type Transfer } from '../carry';
import { settleAll } from '../../system/promises';
import { kindAndType, placed, type DeliveryItem } from '../delivery';
import { appendDeciding } from '../record';
import { isSharedProtection, protectTogether } from '../protection';
import { removeTag } from '../settle';
import { readOutput } from './outputs';

/** A build output of a component, and where it is. */
export interface PlacedOutput {
  readonly component: BuiltConfig;
  /** For a bundle the path of its files. */
  readonly place: OutputPlace;
}

/** Whether something was staged now, or before. */
export const stagingOutcomes = ['staged', 'unchanged'] as const;

/** What became of one build output. */
export interface StagedOutput extends PlacedComponent {
  readonly kind: ContentKind;
  /** What kind of artifact it is; undefined of an image. */
  readonly artifactType: string | undefined;
  readonly outcome: (typeof stagingOutcomes)[number];
  readonly transfer: Transfer & { readonly requests: number };
}

/** What was carried, and the client of where it is. */
type CarriedItem = DeliveryItem & { readonly target: RepositoryClient };

/** What staging works with. */
export interface StageContext {
  readonly config: Config;
  readonly session: Session;
  readonly ledger: Ledger;
  readonly build: Build;
  readonly actor: Actor;
  /** The platform that each build output must be for; undefined where none was named. */
  readonly platform: string | undefined;
  /** Put build outputs in the place of others that were staged. */
  readonly replace: boolean;
  readonly dryRun: boolean;
}

/** Stages build outputs together: all of them, or none is told to the ledger. */
export async function stageOutputs(places: readonly PlacedOutput[], context: StageContext): Promise<StagedOutput[]> {
  const { session, config, build, ledger, dryRun } = context;
  const [environment] = config.environments;
  const carrier = new Carrier({ dryRun }, session.observer.transfer);
  const { facts, head } = await ledger.read([{ kind: 'staged', key: build.commit }]);
  const carried = await settleAll(places.map((place) => carryOutput(place, carrier, facts, context)));
  const parts = carried.map(({ item }) => placed(item));
  const before = carried.map(({ item }) => isStaged(facts, build, item));
  if (!dryRun) {
    await appendStaging(
      { kind: 'staged', commit: build.commit, environment: environment.name, parts },
      carried.map(({ item }) => item),
      { ...context, begun: head.seq },
      (now) => {
        // Another job may have been at it meanwhile.
        refuseUnmet(parts.map((part) => stagedOnce(part, stagedIn(now, build.commit, part.component), context)));
        return carried.every(({ item }) => isStaged(now, build, item));
      },
    );
  }
  if (!dryRun) {
    await listReferrers(
      carried.map(({ along }) => along),
      ledger,
    );
    const together = carried.filter(({ isShared }) => isShared).map(({ item }) => item.target);
    await settleAll([...new Set(together)].map((target) => protectTogether(target, ledger)));
  }
  if (!dryRun && context.replace) {
    const alone = carried.filter(({ isShared }) => !isShared);
    await settleAll(alone.map(({ item }) => unprotectReplaced(item, stagedIn(facts, build.commit, item.component))));
  }
  return carried.map(({ item, transfer }, at) => ({
    ...placed(item),
    ...kindAndType(item.node.manifest),
    outcome: before[at] === true ? 'unchanged' : 'staged',
    transfer: { ...transfer, requests: item.target.requests },
  }));
}

/** What was replaced needs no protection any more. A tag that stays costs room, and nothing else. */
async function unprotectReplaced(
  { target, node, platforms }: CarriedItem,
  staged: StagedComponent | undefined,
): Promise<void> {
  const replaced = (staged?.parts ?? []).filter(
    (part) => part.digest !== node.manifest.digest && replaces({ platforms: [...platforms] }, part),
  );
  await settleAll(replaced.map(({ digest }) => removeTag(target, protectionTag(digest))));
}

async function carryOutput(
  { component, place }: PlacedOutput,
  carrier: Carrier,
  facts: Facts,
  { session, config, build, platform, replace, dryRun }: StageContext,
): Promise<{ item: CarriedItem; along: CarriedReferrers; transfer: Transfer; isShared: boolean }> {
  const [environment] = config.environments;
  const values = placeValues(config.product, build);
  const { node, platforms, claims } = await readOutput(component, place, { session, values });
  refuseUnmet([
    rightBuild(claims, build.commit, undefined),
    namedPlatform(`${component.name}: ${placeText(place)}`, platforms, platform),
    stagedOnce(
      { component: component.name, digest: node.manifest.digest, platforms: [...platforms] },
      stagedIn(facts, build.commit, component.name),
      { replace },
    ),
  ]);
  const target = session.client(environment.repositoryOf(component.name));
  const referrers = await carriedWith(node, environment.carrying);
  const along = await carryReferrers({ target, referrers }, carrier, {
    all: false,
    note: (text) => session.observer.note(text),
  });
  const transfer = addTransfer(await carrier.carry(node, target), along.transfer);
  const isShared = !dryRun && (await isSharedProtection(target));
  const tag = protectionTag(node.manifest.digest);
  if (!dryRun && !isShared && (await target.manifests.resolve(tag)) === undefined) {
    await carrier.mending(node, target, () => target.manifests.tag(tag, node.manifest), transfer);
  }
  const item = { component: component.name, node, platforms, target, referrers: along.referrers };
  return { item, along, transfer, isShared };
}

/** Whether the ledger knows something as staged, of a build that has not failed since. */
function isStaged(facts: Facts, { commit }: Build, { component, node }: DeliveryItem): boolean {
  const staged = stagedIn(facts, commit, component);
  const digests = staged?.failed === undefined ? staged?.parts.map(({ digest }) => digest) : [];
  return digests?.includes(node.manifest.digest) === true;
}

/** Adds an entry about staging, unless the facts already say what it would. */
export async function appendStaging(
  action: Extract<Action, { kind: 'staged' | 'failed' }>,
  itemReferrers: readonly ItemReferrers[],
  { ledger, config, actor, session, begun }: StageContext & { readonly begun?: number },
  isKnown: (facts: Facts) => boolean,
): Promise<void> {
  const { product } = config;
  await appendDeciding({ ledger, product, actor, observer: session.observer }, async () => {
    const along = itemReferrers.flatMap(({ target, referrers }) =>
      referrers.map(({ subject }) => ({ target, subjects: [subject] })),
    );
    const parts = action.kind === 'staged' ? action.parts : [];
    const { head, facts } = await ledger.read([
      { kind: 'staged', key: action.commit },
      ...referrerFacts(along),
      ...factsOfRemovals(parts),
    ]);
    // What tidying removed is staged anew, although its build has staged it before.
    const isThere = parts.every(({ repository, digest }) => removalOf(facts, repository, digest) === undefined);
    const referrers = unknownTo(facts, itemReferrers);
    return {
      head,
      facts,
      actions: [
        ...(isKnown(facts) && isThere ? [] : [action]),
        ...(referrers.length === 0
          ? []
          : [{ kind: 'referrers', environment: config.environments[0].name, referrers } as const]),
      ],
      value: undefined,
      ...(begun === undefined ? {} : { begun }),
    };
  });
}

/** What was staged, as people who wait read it. */
export function describeStaged({ component, platforms, digest }: StagedOutput): string {
  return `staged ${[component, ...platforms].join(' ')} ${shortDigest(digest)}`;
}
