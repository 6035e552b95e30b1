import { wantedTags, type TagRule } from '../tags/rules';
import type { Action } from './actions';
import type { Build } from './build';
import { cleanForVersion, rightBuild, type Claim } from './gates/build';
import { metAmong } from './gates/gate';
import { versionFree } from './gates/publication';
import { someTag } from './gates/tags';
import { factNeed, type Decision, type Knowledge } from './knowledge';
import { contentId, releaseId, type PlacedImage } from './release';
import { tagsToSet } from './tag-decisions';
import { judge, type Destination, type Plan, type Verdict } from './verdict';
import { decideVersion, type VersionDecision } from './versions';

/** A build that is to become a release, in the first environment. */
export interface Publication extends Destination {
  readonly product: string;
  readonly build: Build;
  readonly rules: readonly TagRule[];
  /** What the images say of themselves. */
  readonly claims: readonly Claim[];
}

/** The plan of a publication: with the version that was decided for it. */
export interface PublicationPlan extends Plan {
  readonly versioning: VersionDecision;
}

/** Decides about a publication: its version, its tags, and whether the environment serves it from now on. */
export function decidePublication(publication: Publication, known: Knowledge): Decision<Verdict<PublicationPlan>> {
  const { product, environment, build, rules, images, claims } = publication;
  const { commit } = build;
  const content = contentId(images);
  const decision = decideVersion(build.version, { commit, content }, known);
  if (decision.kind !== 'decided') {
    return decision;
  }
  const versioning = decision.value;
  const { version } = versioning;
  const held = versioning.outcome === 'held';
  const unknown = known.missing(version === undefined ? [] : [factNeed('version', version)]);
  if (unknown !== undefined) {
    return unknown;
  }
  const values = { ...build, product, build: build.number, version };
  const plan: PublicationPlan = {
    position: { commit, version },
    release: releaseId({ product, commit, version, images }),
    tags: new Map(images.map(({ image }) => [image, wantedTags(rules, values, image)])),
    heldVersion: held ? versioning.reason : undefined,
    versioning,
  };
  return judge(
    plan,
    publication,
    (facts, fixed) => [
      cleanForVersion(build),
      someTag(environment, plan.tags, held),
      rightBuild(claims, commit, version),
      // A fixed tag that is taken says the same of its version, and more.
      ...(fixed.outcome === 'met' ? [versionFree(version, content, facts)] : []),
    ],
    known,
  );
}

/** What a publication writes into the ledger. */
export function publishedAction(
  { environment, build }: Publication,
  { plan, decisions, current, gates }: Verdict<PublicationPlan>,
  images: PlacedImage[],
): Action {
  const { branch, number, run } = build;
  return {
    kind: 'published',
    release: plan.release,
    ...plan.position,
    branch,
    build: number,
    run,
    environment,
    images,
    tags: tagsToSet(decisions),
    current,
    gates: metAmong(gates),
  };
}
