import type { Head } from '../core/ledger/entry';
import type { FactKey, Facts } from '../core/ledger/facts';
import { Knowledge, type Holding, type Judgement, type Need, type Standing } from '../core/release/knowledge';
import { refuseUnmet } from '../core/release/refusal';
import { FactReader } from '../ledger/fact-reader';
import type { Moment } from '../ledger/ledger';
import { contended } from '../ledger/problems';
import type { CommitId } from '../core/commit';
import type { RepositoryName } from '../core/oci/reference';
import type { DeliveryContext, DeliveryItem } from './delivery';
import type { RepositoryReader } from '../registry/ports';
import { readProvenance } from './provenance';
import { readSigner } from '../workspace/ssh-signature';

/** A decision, and what of the ledger it was made on. */
export interface Judged<T> {
  readonly value: T;
  /** The last entry of the ledger before registries were asked for the first time. */
  readonly begun: number;
  readonly head: Head;
  readonly facts: Facts;
}

/** More rounds of questions than any decision takes by itself. */
const roundLimit = 200;

/** A repository that decisions ask about, and what is to come there, where something is. */
interface JudgedItem {
  readonly target: RepositoryReader;
  readonly node?: Pick<DeliveryItem['node'], 'manifest'>;
}
type NeedOf<K extends Need['kind']> = Extract<Need, { kind: K }>;

/**
 * Finds out what pure decisions need to know, as often as it takes: from the ledger, the registries
 * and git. Remembers what registries and git said; the ledger is read anew for each decision.
 */
export class Judge {
  private readonly known = new Knowledge();
  private readonly facts: FactReader;
  private begun: number | undefined;
  private readonly items: ReadonlyMap<RepositoryName, JudgedItem>;

  constructor(
    private readonly context: Pick<DeliveryContext, 'orders' | 'remote'> & {
      readonly ledger: Pick<DeliveryContext['ledger'], 'read'>;
    },
    items: readonly JudgedItem[],
    /** Facts that are read with those that decisions ask for. */
    alsoRead: readonly FactKey[] = [],
  ) {
    this.items = new Map(items.map((item) => [item.target.label, item]));
    this.facts = new FactReader(context.ledger, alsoRead);
  }

  /** Forgets what the registries serve. */
  forgetServed(): void {
    this.known.forgetServed();
  }

  /** Decides on the newest head of the ledger. Throws where a rule refuses. */
  decide<T>(decide: (known: Knowledge) => Judgement<T>): Promise<Judged<T>> {
    return this.judge(decide, () => undefined);
  }

  /** The same, but where a rule refuses, and it is known what would be decided without it, that is the answer. */
  rehearse<T>(decide: (known: Knowledge) => Judgement<T>): Promise<Judged<T>> {
    return this.judge(decide, ({ value }) => value);
  }

  private async judge<T>(
    decide: (known: Knowledge) => Judgement<T>,
    nevertheless: (refused: { value?: T }) => T | undefined,
  ): Promise<Judged<T>> {
    const { known } = this;
    await this.readLedger([]);
    for (let round = 0; round < roundLimit; round += 1) {
      const decision = decide(known);
      switch (decision.kind) {
        case 'decided':
          return this.judged(decision.value);
        case 'needs':
          await this.fulfil(decision.needs);
          break;
        case 'refused': {
          const value = nevertheless(decision);
          if (value !== undefined) {
            return this.judged(value);
          }
          const { head } = await this.context.ledger.read([]);
          if (head.seq === known.head.seq) {
            refuseUnmet(decision.gates);
          }
          // What the registries serve may be newer than what the ledger said: a version that is taken by now, say.
          await this.readLedger([]);
        }
      }
    }
    throw contended(`entry ${known.head.seq + 1}`, `it changed ${roundLimit} times while one thing was decided`);
  }

  private judged<T>(value: T): Judged<T> {
    const { head, facts } = this.known;
    return { value, head, facts, begun: this.begun ?? head.seq };
  }

  private async fulfil(needs: readonly Need[]): Promise<void> {
    const of = <K extends Need['kind']>(kind: K): NeedOf<K>[] =>
      needs.filter((need): need is NeedOf<K> => need.kind === kind);
    const facts = of('fact');
    await Promise.all([
      ...(facts.length === 0
        ? []
        : [
            this.readLedger(
              facts.map(({ fact }) => fact),
              'known',
            ),
          ]),
      ...of('served').map((need) => this.resolveTag(need)),
      ...of('provenance').map((need) => this.readProvenance(need)),
      ...of('highest').map(async ({ line }) => this.known.tellHighest(line, await this.context.orders.highest(line))),
      this.compare(of('order')),
      ...of('standing').map(async (need) => this.known.tellStanding(need, await this.standing(need))),
      ...of('signer').map(async (need) => this.known.tellSigner(need, await readSigner(need))),
      ...of('holding').map(async (need) => this.known.tellHolding(need, await this.holding(need))),
    ]);
  }

  private async standing({ branches }: NeedOf<'standing'>): Promise<Standing> {
    return (await this.context.remote?.standing(branches)) ?? { why: 'the remote was not asked' };
  }

  private async holding({ commit, branches }: NeedOf<'holding'>): Promise<Holding> {
    const found = await this.context.remote?.holding(commit, branches);
    return found ?? { remote: undefined, branches: [], why: 'the remote was not asked' };
  }

  private async readLedger(more: readonly FactKey[], moment: Moment = 'newest'): Promise<void> {
    const { head, facts } = await this.facts.read(more, moment);
    this.known.head = head;
    this.known.facts = facts;
    this.begun ??= head.seq;
  }

  private async resolveTag({ repository, tag }: NeedOf<'served'>): Promise<void> {
    const { target, node } = this.item(repository);
    this.known.tellServed(repository, tag, await target.manifests.resolve(tag, node?.manifest.digest));
  }

  private async readProvenance(need: NeedOf<'provenance'>): Promise<void> {
    const told = await readProvenance(this.item(need.repository).target, need);
    this.known.tellProvenance(need, told);
  }

  private async compare(orders: readonly NeedOf<'order'>[]): Promise<void> {
    for (const commit of new Set(orders.map((order) => order.commit))) {
      const others = orders.filter((order) => order.commit === commit).map(({ other }): CommitId => other);
      const ancestry = await this.context.orders.around(commit, others);
      others.forEach((other) => this.known.tellOrder(commit, other, ancestry));
    }
  }

  private item(repository: RepositoryName): JudgedItem {
    const item = this.items.get(repository);
    if (item === undefined) {
      throw new Error(`a decision asks about ${repository}, where nothing goes`);
    }
    return item;
  }
}
