import type { CommitId } from '../commit';
import type { Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';
import type { Ancestry, Position } from '../tags/ordering';
import type { Tag } from '../oci/tag';
import type { Version, VersionLine } from '../tags/version';
import { emptyHead, type Head } from '../ledger/entry';
import { Facts, tagKey, type FactKey } from '../ledger/facts';
import type { Gate, UnmetGate } from './gates/gate';
import type { RulesSource } from '../ledger/rules';
import type { SignedText, Signer } from '../trust/signed-text';

/** Something that a decision turns on: a reader finds it out, and asks for the decision again. */
export type Need =
  | { readonly kind: 'fact'; readonly fact: FactKey }
  /** What a registry serves under a tag. */
  | { readonly kind: 'served'; readonly repository: RepositoryName; readonly tag: Tag }
  /** What something in a registry tells of itself; its version only where that matters. */
  | {
      readonly kind: 'provenance';
      readonly repository: RepositoryName;
      readonly digest: Digest;
      readonly withVersion: boolean;
    }
  /** How two commits stand to each other. */
  | { readonly kind: 'order'; readonly commit: CommitId; readonly other: CommitId }
  /** The highest release on a line that registry and git tags show, for a ledger that knows none. */
  | { readonly kind: 'highest'; readonly line: VersionLine }
  /** Where the rules of the checkout stand, among the heads of branches at the remote; the usual ones where none are named. */
  | { readonly kind: 'standing'; readonly branches: readonly string[] | undefined }
  /** Who made a signature of an SSH key over a text, among some people; `at`: when, by the ledger. */
  | ({ readonly kind: 'signer' } & SignedText)
  /** Which of some branches contain a commit at the remote. */
  | { readonly kind: 'holding'; readonly commit: CommitId; readonly branches: readonly string[] };

/** Where the rules of a checkout stand at the remote that all clones share, or why they stand at the head of no followed branch. */
export type Standing =
  { readonly source: RulesSource; readonly why?: undefined } | { readonly source?: undefined; readonly why: string };

/** The branches that contain a commit at the remote, and why others do not count. */
export interface Holding {
  /** `host/path`; undefined where the clone has none. */
  readonly remote: string | undefined;
  readonly branches: readonly string[];
  readonly why: string;
}

/** What comes of asking a pure decision: the decision, the rules that forbid it, or what it still needs to know. */
export type Decision<T> =
  | { readonly kind: 'decided'; readonly value: T }
  | { readonly kind: 'refused'; readonly gates: readonly Gate[] }
  | { readonly kind: 'needs'; readonly needs: readonly Need[] };

/** A decision that rules may forbid; then it says what it would be without them, for a rehearsal. */
export type Judgement<T> =
  | Exclude<Decision<T>, { kind: 'refused' }>
  | { readonly kind: 'refused'; readonly gates: readonly Gate[]; readonly value?: T };

/** The decision that one rule refuses. */
export function refusedBy(gate: string, unmet: Omit<UnmetGate, 'gate' | 'outcome'>): Decision<never> {
  return { kind: 'refused', gates: [{ gate, outcome: 'unmet', ...unmet }] };
}

/** The decision that needs nothing more. */
export function decided<T>(value: T): Decision<T> {
  return { kind: 'decided', value };
}

/** Several decisions as one: it needs what any of them needs, and is refused where any of them is. */
export function together<T>(decisions: readonly Judgement<T>[]): Judgement<readonly T[]> {
  const needs = decisions.flatMap((each) => (each.kind === 'needs' ? each.needs : []));
  if (needs.length > 0) {
    return { kind: 'needs', needs };
  }
  const values = decisions.flatMap((each) => (each.kind !== 'needs' && each.value !== undefined ? [each.value] : []));
  const refused = decisions.filter((each) => each.kind === 'refused');
  return refused.length === 0
    ? { kind: 'decided', value: values }
    : {
        kind: 'refused',
        gates: refused.flatMap(({ gates }) => gates),
        ...(values.length === decisions.length ? { value: values } : {}),
      };
}

/** A fact that is needed. */
export function factNeed(kind: FactKey['kind'], key: string): Need {
  return { kind: 'fact', fact: { kind, key } };
}

/** What is known while a decision is made: the ledger as of one moment, and what registries and git have said. */
export class Knowledge {
  head: Head = emptyHead;
  facts = new Facts([]);
  readonly ancestry: Ancestry;
  private readonly served = new Map<string, Digest | undefined>();
  private readonly provenance = new Map<string, Position | undefined>();
  private readonly orders = new Map<string, boolean | undefined>();
  private readonly highest = new Map<VersionLine, Version | undefined>();
  private readonly standings = new Map<string, Standing>();
  private readonly holdings = new Map<string, Holding>();
  private readonly signers = new Map<string, Signer>();
  private gap = '';

  constructor() {
    const { orders } = this;
    const gapNow = (): string => this.gap;
    this.ancestry = {
      contains: (older, newer) => (older === newer ? true : orders.get(`${older} ${newer}`)),
      get gap() {
        return gapNow();
      },
    };
  }

  /** The question for those of some needs that are not known yet; undefined where all are. */
  missing(needs: readonly Need[]): Decision<never> | undefined {
    const missing = needs.filter((need) => !this.knows(need));
    return missing.length === 0 ? undefined : { kind: 'needs', needs: missing };
  }

  servedUnder(repository: RepositoryName, tag: Tag): Digest | undefined {
    return this.served.get(tagKey(repository, tag));
  }

  provenanceOf(need: Extract<Need, { kind: 'provenance' }>): Position | undefined {
    return this.provenance.get(provenanceKey(need));
  }

  highestOn(line: VersionLine): Version | undefined {
    return this.highest.get(line);
  }

  tellServed(repository: RepositoryName, tag: Tag, digest: Digest | undefined): void {
    this.served.set(tagKey(repository, tag), digest);
  }

  tellProvenance(need: Extract<Need, { kind: 'provenance' }>, position: Position | undefined): void {
    this.provenance.set(provenanceKey(need), position);
  }

  tellOrder(commit: CommitId, other: CommitId, ancestry: Ancestry): void {
    this.orders.set(`${commit} ${other}`, ancestry.contains(commit, other));
    this.orders.set(`${other} ${commit}`, ancestry.contains(other, commit));
    this.gap = ancestry.gap === '' ? this.gap : ancestry.gap;
  }

  tellHighest(line: VersionLine, version: Version | undefined): void {
    this.highest.set(line, version);
  }

  standingOf({ branches }: Extract<Need, { kind: 'standing' }>): Standing | undefined {
    return this.standings.get(JSON.stringify(branches ?? null));
  }

  holdingOf({ commit, branches }: Extract<Need, { kind: 'holding' }>): Holding | undefined {
    return this.holdings.get(JSON.stringify([commit, ...branches]));
  }

  signerOf({ text, namespace, signature, at, people }: SignedText): Signer | undefined {
    return this.signers.get(JSON.stringify([text, namespace, signature, at, people]));
  }

  tellSigner({ text, namespace, signature, at, people }: SignedText, signer: Signer): void {
    this.signers.set(JSON.stringify([text, namespace, signature, at, people]), signer);
  }

  tellStanding({ branches }: Extract<Need, { kind: 'standing' }>, standing: Standing): void {
    this.standings.set(JSON.stringify(branches ?? null), standing);
  }

  tellHolding({ commit, branches }: Extract<Need, { kind: 'holding' }>, holding: Holding): void {
    this.holdings.set(JSON.stringify([commit, ...branches]), holding);
  }

  /** Forgets what registries serve: it may have changed. */
  forgetServed(): void {
    this.served.clear();
  }

  private knows(need: Need): boolean {
    switch (need.kind) {
      case 'fact':
        return this.facts.has(need.fact);
      case 'served':
        return this.served.has(tagKey(need.repository, need.tag));
      case 'provenance':
        return this.provenance.has(provenanceKey(need));
      case 'order':
        return need.commit === need.other || this.orders.has(`${need.commit} ${need.other}`);
      case 'highest':
        return this.highest.has(need.line);
      case 'standing':
        return this.standingOf(need) !== undefined;
      case 'signer':
        return this.signerOf(need) !== undefined;
      case 'holding':
        return this.holdingOf(need) !== undefined;
    }
  }
}

function provenanceKey({ repository, digest, withVersion }: Extract<Need, { kind: 'provenance' }>): string {
  return `${repository}@${digest} ${withVersion}`;
}
