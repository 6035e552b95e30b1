import pLimit from 'p-limit';
import { HodError } from '../core/errors';
import type { Action } from '../core/ledger/entries';
import { emptyHead, headAfter, type Head } from '../core/ledger/entry';
import { manifestKey, type Facts } from '../core/ledger/facts';
import type { Digest } from '../core/oci/digest';
import type { Tag } from '../core/oci/tag';
import { formatRepository, type Repository, type RepositoryName } from '../core/oci/reference';
import { together, type Knowledge } from '../core/release/knowledge';
import { ContentHistory, type Removing } from '../core/tidy/content-history';
import {
  decideReasons,
  isNeed,
  planContent,
  type ContentQuestion,
  type KeepingEnvironment,
  type ReasonsOf,
  type RepositoryPlan,
} from '../core/tidy/content-plan';
import { growthOf, type RepositoryGrowth } from '../core/tidy/growth';
import { decideNeeded, type NeedyEnvironment } from '../core/tidy/needed';
import { heldFromOutside, planRemoval, type RepositoryRemoval } from '../core/tidy/removal';
import type { Timestamp } from '../core/time';
import { decideFrom } from '../ledger/fact-reader';
import type { Ledger } from '../ledger/ledger';
import type { RepositoryToTidy } from '../registry/ports';
import { settleAll } from '../system/promises';
import { RepositorySurveyor } from './survey';

/** An environment, as far as tidying asks about it. */
export interface TidyEnvironment extends KeepingEnvironment {
  /** Throws where a component of that name can have none. */
  readonly repositoryOf: (component: string) => Repository;
}

/** What is tidied. */
export interface TidyQuestion {
  /** Every environment of hod.yaml. */
  readonly environments: readonly TidyEnvironment[];
  /** Those whose repositories are tidied. */
  readonly chosen: readonly string[];
  /** The components of hod.yaml. */
  readonly components: readonly string[];
  /** Versions that later environments have served may go too. */
  readonly versions: boolean;
  /** What the ledger does not know may go too; none of it where undefined. */
  readonly unknown: UnknownRule | undefined;
}

/** Which content that the ledger does not know may go. */
export interface UnknownRule {
  /** It says that it was made before. */
  readonly before: Timestamp;
  /** How old that is, in milliseconds. */
  readonly olderThan: number;
}

/** So many repositories are looked through at once: what is asked about more is not held in memory. */
const repositoriesAtOnce = 8;

/** What tidying works with. */
export interface TidyContext {
  readonly ledger: Pick<Ledger, 'read' | 'entries' | 'neighbours'>;
  readonly client: (repository: Repository) => RepositoryToTidy;
}

/** What the ledger says of the content of repositories, as of one moment. */
export interface TidyPlan {
  readonly head: Head;
  readonly facts: Facts;
  readonly plans: readonly RepositoryPlan[];
}

/** What may go of a repository: only some content of it, where that is said. */
export interface WantedRemoval {
  readonly plan: RepositoryPlan;
  readonly repository: Repository;
  readonly only?: ReadonlySet<Digest>;
}

/** A repository that was looked through, or why it could not be. */
export interface SurveyedRepository {
  readonly plan: RepositoryPlan;
  readonly repository: Repository;
  readonly found: RepositoryRemoval | undefined;
  /** Undefined where it was looked through, and where nothing of it would go by the ledger. */
  readonly unread: HodError | undefined;
}

/** Finds out what may go. The entries of the ledger are read once, and those that are added meanwhile. */
export class Tidying {
  private readonly history = new ContentHistory();
  /** What the ledgers of other products tell, and how far they were read. */
  private readonly others = new Map<string, { readonly history: ContentHistory; last: Head }>();
  private readonly surveyors = new Map<RepositoryName, RepositorySurveyor>();
  private last: Head = emptyHead;
  /** What keeps content, as of the last entry that could change it. */
  private reasons: ReasonsOf | undefined;

  constructor(
    private readonly question: TidyQuestion,
    private readonly context: TidyContext,
  ) {}

  /** What is being removed by the ledger, by the entry that says so. */
  get claims() {
    return this.history.claims;
  }

  /**
   * Returns why content that an earlier run has claimed is not removed all the same: somebody forged the claim, hod.yaml has changed, or
   * somebody who has no part in this ledger has used the content since; undefined where it may be.
   */
  async whyNotRemoved(
    { plans }: Pick<TidyPlan, 'plans'>,
    { contents }: Removing,
  ): Promise<(content: Removing['contents'][number]) => string | undefined> {
    const needed = new Set(
      plans.flatMap(({ repository, stays }) =>
        stays.filter(({ reasons }) => reasons.some(isNeed)).map(({ placed }) => manifestKey(repository, placed.digest)),
      ),
    );
    const named = this.repositories();
    const held = new Map<RepositoryName, ReturnType<typeof heldFromOutside>>();
    for (const plan of plans.filter((each) => contents.some(({ repository }) => repository === each.repository))) {
      const repository = named.get(plan.repository);
      if (repository !== undefined) {
        const tags = new Set(contents.flatMap((each) => (each.repository === plan.repository ? each.tags : [])));
        const { survey } = await this.look({ plan, repository });
        held.set(
          plan.repository,
          heldFromOutside(plan, survey, ({ tag }) => tags.has(tag)),
        );
      }
    }
    return ({ repository, digest, manifests }) => {
      if (!named.has(repository)) {
        return 'hod.yaml does not name this repository';
      }
      const all = [digest, ...manifests];
      if (all.some((each) => needed.has(manifestKey(repository, each)))) {
        return 'an environment needs it';
      }
      const [reason] = all.flatMap((each) => held.get(repository)?.get(each) ?? []);
      switch (reason?.why) {
        case undefined:
          return undefined;
        case 'shared':
          return `the product ${reason.product} has it too`;
        case 'led':
          return `the tag ${reason.tag} leads to it`;
        default:
          return 'something that stays holds it';
      }
    };
  }

  /** Decides on the newest head of the ledger about all repositories, or about some. */
  async plan(now: Timestamp, repositories?: ReadonlySet<RepositoryName>): Promise<TidyPlan> {
    const { ledger } = this.context;
    const names = repositories === undefined ? [...this.repositories().keys()] : [...repositories];
    for (;;) {
      await this.catchUp();
      const others = new Map([...this.others].map(([product, { history }]) => [product, history]));
      const about = { history: this.history, others };
      const known = this.reasons;
      const { head, facts, reasons } =
        known === undefined ? await this.decide(now, about) : { ...(await ledger.read([])), reasons: known };
      if (head.seq === this.last.seq) {
        this.reasons = reasons;
        return { head, facts, plans: planContent(names, about, reasons) };
      }
    }
  }

  private async decide(now: Timestamp, about: Pick<ContentQuestion, 'history' | 'others'>) {
    const environments = this.needyEnvironments(now);
    const decideAll = (known: Knowledge) => together(environments.map((each) => decideNeeded(each, known)));
    const { value, head, facts } = await decideFrom(this.context.ledger, decideAll, 'newest');
    const question = { ...this.question, ...about, environments: this.keeping(), now, needed: value.flat() };
    return { head, facts, reasons: decideReasons(question) };
  }

  /** Asks the registries about every repository of which something would go. */
  async survey({ plans }: Pick<TidyPlan, 'plans'>): Promise<SurveyedRepository[]> {
    return this.eachChosen(plans, async (each) => {
      if (each.plan.goes.length === 0 && this.question.unknown === undefined) {
        return { ...each, found: undefined, unread: undefined };
      }
      const looked = await unlessUnread(this.look(each));
      return looked instanceof HodError
        ? { ...each, found: undefined, unread: looked }
        : { ...each, found: looked.removal, unread: undefined };
    });
  }

  /**
   * Tells how much each chosen repository holds, and why.
   *
   * @param ask Ask the registries how much that is in bytes.
   */
  async growth({ plans }: Pick<TidyPlan, 'plans'>, { ask }: { readonly ask: boolean }): Promise<RepositoryGrowth[]> {
    return this.eachChosen(plans, async (each) => {
      const looked = ask ? await unlessUnread(this.look(each)) : undefined;
      const weeks = this.history.weeksOf(each.plan.repository);
      return growthOf(each.plan, weeks, looked instanceof HodError ? undefined : looked);
    });
  }

  private async eachChosen<T>(
    plans: readonly RepositoryPlan[],
    work: (each: WantedRemoval) => Promise<T>,
  ): Promise<T[]> {
    const repositories = this.repositories(this.question.chosen);
    const all = plans.flatMap((plan) => {
      const repository = repositories.get(plan.repository);
      return repository === undefined ? [] : [{ plan, repository }];
    });
    const turn = pLimit(repositoriesAtOnce);
    return settleAll(all.map((each) => turn(() => work(each))));
  }

  /** Decides what goes of some content of repositories, by what their registries say now. */
  async removals(wanted: readonly WantedRemoval[]): Promise<RepositoryRemoval[]> {
    for (;;) {
      const removals = (await settleAll(wanted.map((each) => this.look(each)))).map(({ removal }) => removal);
      if (this.question.unknown === undefined) {
        return removals;
      }
      // A tag that nothing knew when it was seen may be of a release that is coming in.
      await this.catchUp();
      const isKnown = ({ repository, goes }: RepositoryRemoval): boolean => {
        const known = this.knownTags(repository);
        return goes.some(
          ({ placed }) => placed.components.size === 0 && [...placed.tags].some((tag) => known.has(tag)),
        );
      };
      if (!removals.some(isKnown)) {
        return removals;
      }
    }
  }

  private async look({ plan, repository, only }: WantedRemoval) {
    const surveyor =
      this.surveyors.get(plan.repository) ??
      new RepositorySurveyor(this.context.client(repository), this.question.unknown?.before);
    this.surveyors.set(plan.repository, surveyor);
    const survey = await surveyor.look(plan, this.knownTags(plan.repository));
    return { survey, removal: planRemoval(plan, survey, only) };
  }

  /** Every tag that this ledger, or that of another product, ever set in a repository. */
  private knownTags(repository: RepositoryName): Set<Tag> {
    const histories = [this.history, ...[...this.others.values()].map(({ history }) => history)];
    return new Set(histories.flatMap(({ tags }) => [...(tags.get(repository) ?? [])]));
  }

  /** Reads the entries that were added since, also by other products. */
  private async catchUp(): Promise<void> {
    for await (const sealed of this.context.ledger.entries(this.last)) {
      this.history.add(sealed);
      this.last = headAfter(sealed);
      if (!changesNoNeed.includes(sealed.entry.action.kind)) {
        this.reasons = undefined;
      }
    }
    for (const { product, entries } of await this.context.ledger.neighbours([...this.repositories().keys()])) {
      const other = this.others.get(product) ?? { history: new ContentHistory(), last: emptyHead };
      this.others.set(product, other);
      for await (const sealed of entries(other.last)) {
        other.history.add(sealed);
        other.last = headAfter(sealed);
      }
    }
  }

  /** Every environment of hod.yaml, and those that the ledger knows besides: they keep everything. */
  private keeping(): KeepingEnvironment[] {
    const { environments } = this.question;
    const others = [...this.history.components.keys()].filter(
      (name) => !environments.some((each) => each.name === name),
    );
    return [...environments, ...others.map((name) => ({ name, keep: undefined, follows: undefined, before: [] }))];
  }

  private needyEnvironments(now: Timestamp): NeedyEnvironment[] {
    return this.keeping().map(({ name, keep, before }) => ({
      name,
      before,
      places: new Map(this.placesIn(name).map(({ component, label }) => [component, label])),
      rollbacks: keep?.rollbacks ?? 0,
      tags: [...(this.history.moving.get(name)?.values() ?? [])],
      now,
    }));
  }

  /** The repositories of some environments; of all that hod.yaml names where none are given. */
  private repositories(
    names: readonly string[] = this.question.environments.map(({ name }) => name),
  ): Map<RepositoryName, Repository> {
    return new Map(
      names.flatMap((name) => this.placesIn(name)).map(({ label, repository }) => [label, repository] as const),
    );
  }

  /** Where an environment has the components of hod.yaml, and those that it had once. */
  private placesIn(name: string): { component: string; label: RepositoryName; repository: Repository }[] {
    const environment = this.question.environments.find((each) => each.name === name);
    const components = new Set([...this.question.components, ...(this.history.components.get(name) ?? [])]);
    return environment === undefined
      ? []
      : [...components].flatMap((component) => {
          const repository = repositoryIn(environment, component);
          return repository === undefined ? [] : [{ component, repository, label: formatRepository(repository) }];
        });
  }
}

/** What is removed was needed by nobody, and announcing and moving entries change nothing. */
const changesNoNeed: readonly Action['kind'][] = ['removing', 'removed', 'announced', 'compacted'];

/** What is read from a registry, or why it cannot be read. */
async function unlessUnread<T>(reading: Promise<T>): Promise<T | HodError> {
  try {
    return await reading;
  } catch (error) {
    if (error instanceof HodError) {
      return error;
    }
    throw error;
  }
}

/** The repository of a component; undefined where one of that name can have none. */
function repositoryIn({ repositoryOf }: TidyEnvironment, component: string): Repository | undefined {
  try {
    return repositoryOf(component);
  } catch (error) {
    if (error instanceof HodError) {
      return undefined;
    }
    throw error;
  }
}
