import type { RulesOf } from '../tags/rules';
import type { Action } from '../ledger/entries';
import type { Build } from '../build/build';
import { branchesOf, whyNotFollowed, type Following } from '../build/following';
import { gatesOfBuild, rightBuild, type Claim } from './gates/build';
import type { Gate } from './gates/gate';
import { versionFree } from './gates/publication';
import { receptionGates, type Reception } from './gates/receiving';
import { someTag } from './gates/tags';
import { factNeed, type Decision, type Judgement, type Knowledge } from './knowledge';
import {
  contentId,
  releaseId,
  type ContentId,
  type PlacedComponent,
  type ReleaseId,
  type ReleaseIdentity,
} from '../ledger/release';
import {
  arrivalOf,
  isKnown,
  judge,
  orderFor,
  tagsWanted,
  type Destination,
  type Plan,
  type RuleContext,
  type Verdict,
} from './verdict';
import { trustedFollowing } from './trusted-following';
import { decideVersion, type VersionDecision } from './versions';

/** A build that is to become a release, in the first environment. */
export interface Publication extends Destination {
  readonly product: string;
  readonly build: Build;
  /** The tag rules of each component. */
  readonly rulesOf: RulesOf;
  readonly following: Following;
  /** Every component that the product has. */
  readonly lists: readonly string[];
  /** What the components say of themselves. */
  readonly claims: readonly Claim[];
  /** The parcel that it comes in, and what the environment asks of it; undefined of a build. */
  readonly reception: Reception | undefined;
}

/** The plan of a publication: with the version that was decided for it. */
export interface PublicationPlan extends Plan {
  readonly versioning: VersionDecision;
  /** The branches that the build is of, as far as that is trusted. */
  readonly branches: readonly string[];
}

/** Decides about a publication: its version, its tags, and how it comes into the environment. */
export function decidePublication(claimed: Publication, known: Knowledge): Judgement<Verdict<PublicationPlan>> {
  const trusted = trustedFollowing(claimed, claimed, known);
  return trusted.kind === 'decided' ? decideTrusted({ ...claimed, ...trusted.value }, known) : trusted;
}

function decideTrusted(publication: Publication, known: Knowledge): Judgement<Verdict<PublicationPlan>> {
  const { product, environment, build, rulesOf, components, lists, following, despite } = publication;
  const { commit, branch } = build;
  const own = contentId(components);
  const ancestry = orderFor(commit, despite, known);
  const decision = decideVersion(build.version, { commit, content: own }, known, ancestry);
  if (decision.kind !== 'decided') {
    return decision;
  }
  const versioning = decision.value;
  const { version } = versioning;
  const held = versioning.outcome === 'held';
  const unknown = known.missing([
    factNeed('commit', commit),
    ...(version === undefined ? [] : [factNeed('version', version)]),
  ]);
  if (unknown !== undefined) {
    return unknown;
  }
  const identified = identify({ product, commit, version, components }, known);
  if (identified.kind !== 'decided') {
    return identified;
  }
  const { release, content } = identified.value;
  const values = { ...build, product, build: build.number, version };
  const plan: PublicationPlan = {
    origin: { commit, version, branch },
    release,
    content,
    tags: tagsWanted(components, rulesOf, values),
    lists,
    branches: branchesOf(following),
    notFollowed: whyNotFollowed(following, { hasVersion: version !== undefined, environment }),
    heldVersion: held ? versioning.reason : undefined,
    versioning,
  };
  return judge(plan, publication, (context) => publicationGates(publication, plan, context), known);
}

function publicationGates(
  { environment, build, following, claims, reception }: Publication,
  plan: PublicationPlan,
  { facts, fixed, ...context }: RuleContext,
): Gate[] {
  const { version, commit } = plan.origin;
  return [
    // The environment asked these rules when the release first came in.
    ...(isKnown(environment, { plan, ...context }, facts) ? [] : receptionGates(reception)),
    ...gatesOfBuild(build, following, environment),
    someTag(environment, plan.tags, { versionHeld: plan.heldVersion !== undefined }),
    rightBuild(claims, commit, version),
    // A fixed tag that is taken says the same of its version, and more.
    ...(fixed.outcome === 'met' ? [versionFree(version, plan.content, facts)] : []),
  ];
}

/**
 * Identifies the release that a build is: a release of its commit and version that holds the same components, and maybe more;
 * else a new one. `known` holds the fact of the commit. So a part that is published again is no release of its own: what was begun for the whole release is found, and
 * finished, by the same commit.
 */
function identify(identity: ReleaseIdentity, known: Knowledge): Decision<{ release: ReleaseId; content: ContentId }> {
  const { commit, version, components } = identity;
  const own = { release: releaseId(identity), content: contentId(components) };
  const found = known.facts.get('commit', commit);
  if (found === undefined || found.version !== version || found.release === own.release) {
    return { kind: 'decided', value: own };
  }
  const unknown = known.missing([factNeed('release', found.release)]);
  if (unknown !== undefined) {
    return unknown;
  }
  const whole = known.facts.get('release', found.release)?.components ?? [];
  const isPart = components.every(({ component, digest }) =>
    whole.some((each) => each.component === component && each.digest === digest),
  );
  return { kind: 'decided', value: isPart ? { release: found.release, content: contentId(whole) } : own };
}

/** What a publication writes into the ledger. */
export function publishedAction(
  { environment, build, lists, despite }: Publication,
  verdict: Verdict<PublicationPlan>,
  components: PlacedComponent[],
): Action {
  const { number, run } = build;
  const arrival = arrivalOf(environment, verdict, components, despite);
  const isPart = lists.some((name) => !components.some(({ component }) => component === name));
  return {
    kind: 'published',
    ...arrival,
    branches: [...verdict.plan.branches],
    ...(isPart ? { lists: [...lists] } : {}),
    build: number,
    run,
  };
}
