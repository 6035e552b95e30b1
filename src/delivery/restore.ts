import type { TagDecision } from '../core/release/tag-decisions';
import type { DeliveryContext } from './delivery';
import { appendDeciding } from './record';
import type { Place } from './places';
import { completing, settle } from './settle';
import { readWatchedTags } from './watched-tags';
import { contentGone, WriteWitness } from './write-rights';

/** The tags that were put right, and how many were looked at. */
export interface RestoredTags {
  readonly count: number;
  readonly decisions: readonly TagDecision[];
}

/**
 * Puts every tag of an environment right that stands elsewhere than the ledger says, fixed tags included: back to what they were
 * fixed to. Brings nothing new, so no rule is asked. What was done is recorded before the tags are written.
 *
 * @throws `content-gone` before anything is changed, where what a tag is to lead to is not in the registry.
 */
export async function restoreTags(
  environment: string,
  places: readonly Place[],
  context: DeliveryContext & { readonly product: string },
): Promise<RestoredTags> {
  const { ledger, dryRun } = context;
  const deciding = async () => {
    const { head, ...read } = await readWatchedTags(environment, places, context);
    const [lost] = read.lost;
    if (lost !== undefined) {
      throw contentGone(
        lost.repository,
        read.lost.filter(({ repository }) => repository === lost.repository).map(({ digest }) => digest),
      );
    }
    return { head, facts: read.facts, value: read };
  };
  if (dryRun) {
    const { count, stray } = (await deciding()).value;
    return { count, decisions: stray };
  }
  const witness = new WriteWitness(places);
  const { value, appended } = await appendDeciding(context, async () => {
    const { head, facts, value } = await deciding();
    const { stray } = value;
    // Who may not write there finds out before anything is recorded.
    await witness.check(
      stray.map(({ component, outcome, digest, served }) => ({
        component,
        digest: outcome === 'removed' ? (served ?? digest) : digest,
      })),
    );
    return { head, facts, value, actions: stray.length === 0 ? [] : [restoredAction(environment, stray)] };
  });
  const settling = { ledger, appended, mending: <T>(_: Place, write: () => Promise<T>) => write() };
  const decisions = await completing(environment, () => settle(places, value.stray, settling));
  return { count: value.count, decisions };
}

function restoredAction(environment: string, stray: readonly TagDecision[]) {
  return {
    kind: 'restored' as const,
    environment,
    tags: stray.map(({ component, repository, tag, kind, served, outcome, digest, instead }) => ({
      ...{ component, repository, tag, kind, was: served ?? null },
      is: outcome === 'removed' ? (instead ?? null) : digest,
    })),
  };
}
