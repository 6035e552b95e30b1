import { HodError } from '../core/errors';
import type { Digest } from '../core/oci/digest';
import type { Head } from '../core/release/entry';
import { tagKey, type FactKey, type Facts } from '../core/release/facts';
import { becomesCurrent, decideTags, evidenceWanted, type TagDecision, type TagRequest } from '../core/release/plan';
import type { Position } from '../core/tags/ordering';
import type { Delivery, DeliveryContext, Plan } from './delivery';
import { evidenceOf } from './evidence';

/** A decision, and the ledger's head that it was made on. */
export interface Verdict<P extends Plan> {
  plan: P;
  head: Head;
  facts: Facts;
  requests: readonly TagRequest[];
  decisions: TagDecision[];
  current: boolean;
}

/** Looks at the registries and the ledger, as often as it takes, and decides. Remembers what the registries said. */
export class Judge<P extends Plan> {
  private readonly found = new Map<string, Promise<Digest | undefined>>();
  private readonly evidence = new Map<string, Promise<Position | undefined>>();
  private keys: readonly FactKey[];

  constructor(
    private readonly delivery: Delivery<P>,
    private readonly context: DeliveryContext,
  ) {
    this.keys = delivery.needs;
  }

  /** Forgets what the registries said. */
  lookAgain(): void {
    this.found.clear();
  }

  /** Decides on the newest head of the ledger. Throws where a rule refuses. */
  async decide(): Promise<Verdict<P>> {
    const { delivery, context } = this;
    for (;;) {
      const { head, facts } = await context.ledger.read(this.keys);
      const plan = await delivery.plan(facts);
      const requests = await this.survey(plan);
      const needed = factsFor(delivery, plan, requests);
      if (needed.some((key) => !this.keys.some((known) => known.kind === key.kind && known.key === key.key))) {
        // The plan has only now said which facts it turns on.
        this.keys = [...delivery.needs, ...needed];
        continue;
      }
      const explained = await this.explain(requests, facts);
      const { position } = plan;
      const ancestry = await context.history.around(
        position.commit,
        otherCommits(position.commit, explained, delivery.environment, facts),
      );
      const decisions = decideTags(explained, position, facts, ancestry);
      try {
        refuseOverwrites(decisions);
        delivery.permit(plan, facts);
        if (context.strictOrder) {
          refuseLate(decisions, plan.late);
        }
      } catch (refusal) {
        // What the registries serve may be newer than what the ledger said: a version that is taken by now, say.
        if ((await context.ledger.read([])).head.seq === head.seq) {
          throw refusal;
        }
        continue;
      }
      const images = delivery.images.map(({ image }) => image);
      const current = becomesCurrent(delivery.environment, decisions, images, position, facts, ancestry);
      return { plan, head, facts, requests, decisions, current };
    }
  }

  /** What the registries serve now under every tag of a plan. */
  private survey(plan: P): Promise<TagRequest[]> {
    const requests = this.delivery.images.flatMap(({ image, node, target }) =>
      (plan.tags.get(image)?.wanted ?? []).map(async (wanted): Promise<TagRequest> => {
        const key = tagKey(target.label, wanted.tag);
        const looked = this.found.get(key) ?? this.context.limit(() => target.resolve(wanted.tag));
        this.found.set(key, looked);
        const digest = await looked;
        const found = digest && { digest };
        return { image, repository: target.label, digest: node.manifest.digest, wanted, found };
      }),
    );
    return Promise.all(requests);
  }

  /** Adds what targets that the ledger does not know tell of themselves. */
  private explain(requests: readonly TagRequest[], facts: Facts): Promise<TagRequest[]> {
    const unknown = evidenceWanted(requests, facts);
    return Promise.all(
      requests.map(async (request) => {
        const { found, image, wanted } = request;
        const target = this.delivery.images.find((each) => each.image === image)?.target;
        if (found === undefined || target === undefined || !unknown.includes(request)) {
          return request;
        }
        const versions = wanted.rule.kind === 'moving' && wanted.rule.follows !== 'branch';
        const key = `${target.label}@${found.digest} ${versions}`;
        const told = this.evidence.get(key) ?? this.context.limit(() => evidenceOf(target, found.digest, versions));
        this.evidence.set(key, told);
        return { ...request, found: { ...found, evidence: await told } };
      }),
    );
  }
}

/** The facts that a decision about a plan turns on. */
function factsFor(delivery: Delivery<Plan>, { release }: Plan, requests: readonly TagRequest[]): FactKey[] {
  return [
    { kind: 'release', key: release },
    { kind: 'environment', key: delivery.environment },
    ...requests.map(({ repository, wanted }): FactKey => ({ kind: 'tag', key: tagKey(repository, wanted.tag) })),
  ];
}

function otherCommits(own: string, requests: readonly TagRequest[], environment: string, facts: Facts): string[] {
  const moving = requests.filter(({ wanted }) => wanted.rule.kind === 'moving');
  const tagged = moving.map(({ repository, wanted }) => facts.get('tag', tagKey(repository, wanted.tag))?.commit);
  const served = moving.map(({ found }) => found?.evidence?.commit);
  const running = Object.values(facts.get('environment', environment) ?? {}).map(({ commit }) => commit);
  return [...tagged, ...served, ...running].filter((commit) => commit !== undefined).filter((commit) => commit !== own);
}

/** Throws `refused` where something would be held by the order of builds. */
function refuseLate(decisions: readonly TagDecision[], version: string | undefined): void {
  const late = decisions.filter((decision) => decision.late);
  if (late.length === 0 && version === undefined) {
    return;
  }
  throw new HodError('refused', {
    what: 'this build comes too late',
    object: [
      ...(version === undefined ? [] : ['its version']),
      ...late.map((each) => tagKey(each.repository, each.tag)),
    ].join('\n'),
    why: [...new Set([...(version === undefined ? [] : [version]), ...late.map(({ reason }) => reason)])].join('\n'),
    next: 'nothing was changed; without --strict-order everything else is published, and this is left alone',
  });
}

/** Throws `refused` where a decision would overwrite a fixed tag, naming each with both digests. */
export function refuseOverwrites(decisions: readonly TagDecision[]): void {
  const refused = decisions.filter(({ outcome }) => outcome === 'refused');
  const [first] = refused;
  if (first === undefined) {
    return;
  }
  throw new HodError('refused', {
    what: refused.length === 1 ? 'a fixed tag stands for another digest' : 'fixed tags stand for other digests',
    object: refused.map(({ repository, tag }) => tagKey(repository, tag)).join('\n'),
    why: refused
      .map(({ image, tag, digest, reason }) => `${image}:${tag} ${reason}\n  this build is ${digest}`)
      .join('\n'),
    next: 'a fixed tag is never overwritten: publish this build from a new commit, or with a new version; nothing was changed',
  });
}
