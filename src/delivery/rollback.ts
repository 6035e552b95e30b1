import { contentOf, readContent } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { describeManifest } from '../core/oci/manifest';
import type { TagDecision } from '../core/release/tag-decisions';
import { decideRollback } from '../core/release/rollback';
import { rolledBackAction, targetsOf, type Rollback, type RollbackPlan } from '../core/release/rollback-plan';
import type { ReleaseSet } from '../core/ledger/release-set';
import { settleAll } from '../system/promises';
import type { RepositoryReader } from '../registry/ports';
import type { DeliveryContext } from './delivery';
import { Judge } from './judge';
import type { Place } from './places';
import { contentGone, WriteWitness } from './write-rights';
import { appendDeciding } from './record';
import { recordLastRollback } from './rollback-record';
import { completing, settle } from './settle';

/**
 * Rolls an environment back, or one lane of it: decides what changes, checks that the content to be served again is
 * there, records the decision in the ledger, and only then moves the tags, and lets registries tell of it. A run that is killed
 * leaves tags unwritten; the next run writes them.
 *
 * `records`: whether registries keep records of releases and rollbacks.
 *
 * Throws `content-gone` before anything is changed, or a refusal.
 */
export async function rollBack(
  rollback: Omit<Rollback, 'places'> & { readonly records: boolean },
  items: readonly Place[],
  context: DeliveryContext & { readonly product: string },
): Promise<{ plan: RollbackPlan; decisions: readonly TagDecision[] }> {
  const { ledger, dryRun, together } = context;
  const places = new Map(items.map(({ component, target }) => [component, target.label]));
  const judge = new Judge(context, items);
  const presence = new Presence(items);
  const deciding = async () => {
    const judged = await judge.decide((known) => decideRollback({ ...rollback, places }, known));
    // Somebody else may have been first: what is gone back to now must be there, too.
    await presence.check(judged.value);
    return judged;
  };
  if (dryRun) {
    const plan = (await deciding()).value;
    await together?.judged(context.product, ledger);
    return { plan, decisions: plan.decisions };
  }
  const witness = new WriteWitness(items);
  let judgedWith: Promise<ReleaseSet> | undefined;
  const { value: plan, appended } = await appendDeciding(context, async () => {
    const { value, ...judged } = await deciding();
    const set = await (judgedWith ??= together?.judged(context.product, ledger));
    const actions = rolledBackAction({ ...rollback, set }, value);
    // Who may not write there finds out before anything is recorded.
    await witness.check(actions.length === 0 ? [] : [...targetsOf(value), ...value.leaving]);
    return { ...judged, actions, value };
  });
  const decisions = await completing(rollback.environment, () =>
    settle(items, plan.decisions, {
      ledger,
      appended,
      mending: (_, write) => write(),
    }),
  );
  if (rollback.records) {
    await recordLastRollback(rollback.environment, items, context);
  }
  return { plan, decisions };
}

/** Looks for what a rollback relies on, each once. */
class Presence {
  private readonly checked = new Map<string, Promise<void>>();

  constructor(private readonly places: readonly Place[]) {}

  /** Throws `content-gone` where something that is to be served, or tagged, is not whole. */
  async check(plan: RollbackPlan): Promise<void> {
    await settleAll(
      targetsOf(plan).flatMap(({ component, digest }) => {
        const target = this.places.find((each) => each.component === component)?.target;
        const key = `${component} ${digest}`;
        const checking = this.checked.get(key) ?? (target && checkPresent(target, digest));
        if (checking === undefined) {
          return [];
        }
        this.checked.set(key, checking);
        return [checking];
      }),
    );
  }
}

/** Checks that a manifest and everything below it is in a repository. Throws `content-gone`. */
async function checkPresent(source: RepositoryReader, digest: Digest): Promise<void> {
  const manifest = await source.manifests.get(digest);
  if (manifest === undefined) {
    throw contentGone(source.label, [digest]);
  }
  const { blobs } = contentOf(await readContent(source, describeManifest(manifest)));
  const missing = await settleAll(blobs.map(async (blob) => ((await source.blobs.has(blob)) ? [] : [blob.digest])));
  if (missing.flat().length > 0) {
    throw contentGone(source.label, missing.flat());
  }
}
