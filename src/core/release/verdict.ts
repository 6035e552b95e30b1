import type { CommitId } from '../commit';
import type { RepositoryName } from '../oci/reference';
import type { Position } from '../tags/ordering';
import type { WantedTags } from '../tags/rules';
import { factNeed, type Decision, type Knowledge, type Need } from './knowledge';
import { tagKey, type Facts } from './facts';
import { fixedTags, inOrder } from './gates/tags';
import { unmetAmong, type Gate } from './gates/gate';
import type { ImageDigest, ReleaseId } from './release';
import { decideTags, evidenceWanted, takesOver, type TagDecision, type TagRequest } from './tag-decisions';

/** An image or bundle that is to come into an environment. */
export interface ArrivingImage extends ImageDigest {
  /** Where it is to stand. */
  readonly repository: RepositoryName;
}

/** What a release that comes into an environment means to do there, by what the ledger says at a moment. */
export interface Plan {
  readonly position: Position & { readonly commit: CommitId };
  readonly release: ReleaseId;
  /** The tags of each image. */
  readonly tags: ReadonlyMap<string, WantedTags>;
  /** Its version is held because a newer build has the next one; the reason. */
  readonly heldVersion?: string | undefined;
}

/** A plan, and what becomes of it. */
export interface Verdict<P extends Plan> {
  readonly plan: P;
  readonly decisions: readonly TagDecision[];
  /** Whether the environment serves this from now on. */
  readonly current: boolean;
  /** Every rule, each of them met. */
  readonly gates: readonly Gate[];
}

/** The environment that a release comes into, and how strict to be. */
export interface Destination {
  readonly environment: string;
  readonly images: readonly ArrivingImage[];
  /** Refuse where a moving tag, or a version, would be held by the order of builds. */
  readonly strictOrder: boolean;
}

/**
 * Decides what becomes of a plan in an environment: of each tag, and whether the environment serves
 * the release from now on. Refused where one of the rules says no.
 *
 * @param rules The rules of the plan itself; told of what the rule about fixed tags says.
 */
export function judge<P extends Plan>(
  plan: P,
  destination: Destination,
  rules: (facts: Facts, fixed: Gate) => readonly Gate[],
  known: Knowledge,
): Decision<Verdict<P>> {
  const { environment, images, strictOrder } = destination;
  const wanted = images.flatMap((image) => (plan.tags.get(image.image)?.wanted ?? []).map((tag) => ({ image, tag })));
  const first = known.missing([
    factNeed('release', plan.release),
    factNeed('environment', environment),
    ...wanted.flatMap(({ image: { repository }, tag: { tag } }): Need[] => [
      factNeed('tag', tagKey(repository, tag)),
      { kind: 'served', repository, tag },
    ]),
  ]);
  if (first !== undefined) {
    return first;
  }
  const requests = wanted.map(({ image: { image, repository, digest }, tag }): TagRequest => {
    return { image, repository, digest, wanted: tag, served: known.servedUnder(repository, tag.tag) };
  });
  const evidence = new Map(evidenceWanted(requests, known.facts).map((request) => [request, evidenceNeed(request)]));
  const second = known.missing([...evidence.values()]);
  if (second !== undefined) {
    return second;
  }
  const explained = requests.map((request) => {
    const need = evidence.get(request);
    return need === undefined ? request : { ...request, evidence: known.evidenceOf(need) };
  });
  const { position } = plan;
  const others = otherCommits(explained, environment, known.facts);
  const third = known.missing(others.map((other): Need => ({ kind: 'order', commit: position.commit, other })));
  if (third !== undefined) {
    return third;
  }
  const decisions = decideTags(explained, position, known.facts, known.ancestry);
  const fixed = fixedTags(decisions);
  const gates = [fixed, ...rules(known.facts, fixed), ...(strictOrder ? [inOrder(decisions, plan.heldVersion)] : [])];
  if (unmetAmong(gates).length > 0) {
    return { kind: 'refused', gates };
  }
  const names = images.map(({ image }) => image);
  const current = takesOver(environment, decisions, names, position, known.facts, known.ancestry);
  return { kind: 'decided', value: { plan, decisions, current, gates } };
}

function evidenceNeed({ repository, served, wanted: { rule } }: TagRequest): Extract<Need, { kind: 'evidence' }> {
  if (served === undefined) {
    throw new Error('what is not served tells nothing');
  }
  const withVersion = rule.kind === 'moving' && rule.follows !== 'branch';
  return { kind: 'evidence', repository, digest: served, withVersion };
}

/** The commits that a plan's own must be compared with: those of moving tags, and of what the environment serves. */
function otherCommits(requests: readonly TagRequest[], environment: string, facts: Facts): CommitId[] {
  const moving = requests.filter(({ wanted }) => wanted.rule.kind === 'moving');
  const recorded = moving.map(({ repository, wanted }) => facts.get('tag', tagKey(repository, wanted.tag))?.commit);
  const elsewhere = moving.map(({ evidence }) => evidence?.commit);
  const served = (facts.get('environment', environment) ?? []).map(({ commit }) => commit);
  return [...recorded, ...elsewhere, ...served].filter((commit) => commit !== undefined);
}
