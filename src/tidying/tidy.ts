import { HodError } from '../core/errors';
import { removedAction, removingAction, type RemovalOutcome } from '../core/tidy/claim';
import type { Removing } from '../core/tidy/content-history';
import type { RepositoryRemoval } from '../core/tidy/removal';
import type { Digest } from '../core/oci/digest';
import { parseRepository, type RepositoryName } from '../core/oci/reference';
import { removalKey, removalOf, type FactKey, type Facts } from '../core/ledger/facts';
import { timestampOf } from '../core/time';
import { appendDeciding, type RecordContext } from '../delivery/record';
import { settleAll } from '../system/promises';
import { removeContents, removesNothing, type RemovalManner, type RemovalOrder } from './remove';
import { Tidying, type SurveyedRepository, type TidyContext, type TidyQuestion } from './tidying';

/** How much is removed, and at what pace. */
export interface RemovalPace {
  /** At most so much content, each with all that goes with it; all of it where undefined. */
  readonly limit: number | undefined;
  /** Waits between two batches. */
  readonly pause: () => Promise<void>;
}

/** What was removed, and what a registry did not let go. */
export interface TidiedContent {
  readonly content: Coming;
  readonly outcome: RemovalOutcome;
}

/** What may go and what stays, and what was removed. */
export interface Tidied {
  readonly repositories: readonly SurveyedRepository[];
  readonly tidied: readonly TidiedContent[];
}

/** So much content is claimed at once. */
const batchSize = 50;

/** Finds out what may go, and changes nothing. */
export async function findTidy(question: TidyQuestion, context: TidyContext): Promise<Tidied> {
  const tidying = new Tidying(question, context);
  const repositories = await tidying.survey(await tidying.plan(timestampOf(new Date())));
  return { repositories, tidied: [] };
}

/**
 * Removes what may go: claims it in the ledger, batch by batch, so that nothing relies on it from then on; removes it; and records
 * what became of it. What a run that was killed has claimed is removed first.
 *
 * Throws where a registry or the ledger fails: then what was claimed stays claimed until the next run.
 */
export async function tidyUp(
  question: TidyQuestion,
  pace: RemovalPace,
  context: TidyContext & RecordContext,
): Promise<Tidied> {
  const tidying = new Tidying(question, context);
  const remover = new Remover(context);
  const plan = await tidying.plan(timestampOf(new Date()));
  const tidied: TidiedContent[] = [];
  for (const [seq, claim] of tidying.claims) {
    const whyNot = await tidying.whyNotRemoved(plan, claim);
    tidied.push(...(await remover.finish(seq, claim, { removals: [], whyNot })));
  }
  const begun = tidied.length === 0 ? plan : await tidying.plan(timestampOf(new Date()));
  const repositories = await tidying.survey(begun);
  const coming = repositories.flatMap(({ plan, found }) =>
    (found?.goes ?? []).map(({ placed: { digest } }) => ({ repository: plan.repository, digest })),
  );
  for (const batch of batches(coming.slice(0, pace.limit))) {
    // What a registry will not let go is not claimed.
    const [asked, refused] = parted(batch, ({ repository }) => remover.whyNothing(repository) === undefined);
    tidied.push(...refused.map((content) => ({ content, outcome: nothingOf(remover.whyNothing(content.repository)) })));
    const claimed = await claim(asked, repositories, { tidying, question, context });
    if (claimed !== undefined) {
      tidied.push(
        ...(await remover.finish(claimed.seq, claimed.action, { removals: claimed.removals, whyNot: () => undefined })),
      );
      await pace.pause();
    }
  }
  return { repositories, tidied };
}

/** Content of a repository that is to go. */
interface Coming {
  readonly repository: RepositoryName;
  readonly digest: Digest;
}

/** Batches of {@link batchSize}: one content of each repository first, to see how its registry removes things. */
function batches(coming: readonly Coming[]): Coming[][] {
  const first = new Map<RepositoryName, Coming>();
  coming.forEach((each) => first.set(each.repository, first.get(each.repository) ?? each));
  const [probes, rest] = parted(coming, (each) => first.get(each.repository) === each);
  return [probes, rest].flatMap((all) =>
    Array.from({ length: Math.ceil(all.length / batchSize) }, (_, at) =>
      all.slice(at * batchSize, (at + 1) * batchSize),
    ),
  );
}

/** That nothing was removed, and why. */
function nothingOf(why: string | undefined): RemovalOutcome {
  return { removed: new Set(), standing: new Set(), why };
}

function parted<T>(all: readonly T[], isFirst: (each: T) => boolean): [T[], T[]] {
  return [all.filter(isFirst), all.filter((each) => !isFirst(each))];
}

/** What claiming works with. */
interface Claiming {
  readonly tidying: Tidying;
  readonly question: TidyQuestion;
  readonly context: TidyContext & RecordContext;
}

/** Claims those of a batch that may still go by the newest head of the ledger; undefined where none may. */
async function claim(
  batch: readonly Coming[],
  repositories: readonly SurveyedRepository[],
  { tidying, question, context }: Claiming,
): Promise<{ seq: number; action: Removing; removals: readonly RepositoryRemoval[] } | undefined> {
  const { value } = await appendDeciding(context, async (now) => {
    const { head, facts, plans } = await tidying.plan(now, new Set(batch.map(({ repository }) => repository)));
    // Asked again: somebody who has no part in this ledger may have tagged something meanwhile.
    const removals = await tidying.removals(
      plans.flatMap((plan) => {
        const own = new Set(
          batch.filter(({ repository }) => repository === plan.repository).map(({ digest }) => digest),
        );
        const known = repositories.find((each) => each.plan.repository === plan.repository);
        return own.size === 0 || known === undefined ? [] : [{ plan, repository: known.repository, only: own }];
      }),
    );
    const going = removals.filter(({ goes }) => goes.length > 0);
    const action = removingAction(going, question);
    const actions = going.length === 0 ? [] : [action];
    return { head, facts, actions, value: { seq: head.seq + 1, action, removals: going } };
  });
  return value.removals.length === 0 ? undefined : value;
}

type RemovingContent = Removing['contents'][number];

/** How a claim is met. */
interface Finishing {
  /** What was planned; none for the claim of an earlier run. */
  readonly removals: readonly RepositoryRemoval[];
  /** Why content is not removed; undefined where it is. */
  readonly whyNot: (content: RemovingContent) => string | undefined;
}

/** Removes what is claimed. */
class Remover {
  private readonly manners = new Map<RepositoryName, RemovalManner>();

  constructor(private readonly context: TidyContext & RecordContext) {}

  /** Why a registry removes nothing from a repository, as far as this run has seen; undefined where it may. */
  whyNothing(repository: RepositoryName): string | undefined {
    const manner = this.mannerOf(repository);
    return removesNothing(manner) ? manner.why : undefined;
  }

  private mannerOf(repository: RepositoryName): RemovalManner {
    const manner = this.manners.get(repository) ?? { tags: true, manifests: undefined, why: undefined };
    this.manners.set(repository, manner);
    return manner;
  }

  /** Removes what a claim names, and records what became of it, unless another run has done so by then. */
  async finish(seq: number, claim: Removing, how: Finishing): Promise<TidiedContent[]> {
    try {
      return await this.removeClaimed(seq, claim, how);
    } catch (error) {
      if (error instanceof HodError) {
        const told = 'what this run has claimed stays out of use until `hod tidy --remove` is run again and removes it';
        error.problem.why = [...[error.problem.why ?? []].flat(), told];
      }
      throw error;
    }
  }

  private async removeClaimed(seq: number, claim: Removing, how: Finishing): Promise<TidiedContent[]> {
    const stillOurs = async (): Promise<boolean> =>
      isOpen(seq, claim, (await this.context.ledger.read(keysOf(claim))).facts);
    const going = claim.contents.filter((content) => how.whyNot(content) === undefined);
    const names = [...new Set(going.map(({ repository }) => repository))];
    const outcomes = new Map(
      await settleAll(
        names.map(async (name) => {
          const contents = going.filter(({ repository }) => repository === name);
          const waves = how.removals.find(({ repository }) => repository === name)?.waves;
          return [name, await this.remove(name, { contents, waves, stillOurs })] as const;
        }),
      ),
    );
    const outcomeOf = (content: RemovingContent): RemovalOutcome => {
      const why = how.whyNot(content);
      const outcome = why === undefined ? outcomes.get(content.repository) : undefined;
      return outcome ?? { ...nothingOf(why), standing: new Set(content.tags) };
    };
    await appendDeciding(this.context, async () => {
      const { head, facts } = await this.context.ledger.read(keysOf(claim));
      const actions = isOpen(seq, claim, facts) ? [removedAction(seq, claim, outcomeOf)] : [];
      return { head, facts, actions, value: undefined };
    });
    return claim.contents.map((content) => ({ content, outcome: outcomeOf(content) }));
  }

  private remove(
    name: RepositoryName,
    {
      contents,
      waves,
      stillOurs,
    }: Pick<RemovalOrder, 'contents' | 'stillOurs'> & { readonly waves: RemovalOrder['waves'] | undefined },
  ): Promise<RemovalOutcome> {
    const repository = parseRepository(name);
    const manner = this.mannerOf(name);
    // What the claim of an earlier run says is in order; of that order, no more is known.
    const inTurn = waves ?? contents.flatMap(({ manifests }) => manifests.map((digest) => [digest]));
    return removeContents({ client: this.context.client(repository), contents, waves: inTurn, stillOurs }, manner);
  }
}

/** The facts that say whether a claim is open. */
function keysOf({ contents }: Removing): FactKey[] {
  return contents.map(({ repository, digest }) => removalKey(repository, digest));
}

/** Whether what a claim names is still to be removed: no run has recorded that it was. */
function isOpen(seq: number, { contents }: Removing, facts: Facts): boolean {
  return contents.some(({ repository, digest }) => {
    const removal = removalOf(facts, repository, digest);
    return removal?.state === 'removing' && removal.seq === seq;
  });
}
