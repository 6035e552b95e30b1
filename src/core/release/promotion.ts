import { HodError } from '../errors';
import type { CommitId } from '../commit';
import { describePosition } from '../tags/ordering';
import { wantedTags, type TagRule } from '../tags/rules';
import type { Version } from '../tags/version';
import type { Action } from './actions';
import type { Release } from './facts';
import { metAmong } from './gates/gate';
import { servedBefore } from './gates/promotion';
import { someTag } from './gates/tags';
import { factNeed, refusedBy, type Decision, type Knowledge } from './knowledge';
import type { PlacedImage, ReleaseId } from './release';
import { tagsToSet } from './tag-decisions';
import { judge, type Destination, type Plan, type Verdict } from './verdict';

/** Which release to promote: a named one, or what the environment before serves. */
export type ReleaseChoice =
  | { readonly version: Version }
  | { readonly commit: CommitId }
  | { readonly servedBy: string; readonly isFirst: boolean };

/** Chooses the release that is to come into an environment. Refused where there is none, or several. */
export function chooseRelease(choice: ReleaseChoice, to: string, known: Knowledge): Decision<Release> {
  const id = chooseReleaseId(choice, to, known);
  if (id.kind !== 'decided') {
    return id;
  }
  const unknown = known.missing([factNeed('release', id.value)]);
  if (unknown !== undefined) {
    return unknown;
  }
  const release = known.facts.get('release', id.value);
  if (release === undefined) {
    throw new HodError('ledger-corrupt', {
      what: 'the ledger contradicts itself',
      object: `the release ${id.value}`,
      why: 'it is named, and was never published',
      next: `\`hod ledger verify\` says more; restore the ledger before promoting to ${to}`,
    });
  }
  return { kind: 'decided', value: release };
}

function chooseReleaseId(choice: ReleaseChoice, to: string, known: Knowledge): Decision<ReleaseId> {
  if ('version' in choice) {
    const { version } = choice;
    return (
      known.missing([factNeed('version', version)]) ??
      published(known.facts.get('version', version)?.release, `version ${version}`)
    );
  }
  if ('commit' in choice) {
    const { commit } = choice;
    return (
      known.missing([factNeed('commit', commit)]) ??
      published(known.facts.get('commit', commit)?.release, `commit ${commit}`)
    );
  }
  const { servedBy, isFirst } = choice;
  const unknown = known.missing([factNeed('environment', servedBy)]);
  if (unknown !== undefined) {
    return unknown;
  }
  const served = known.facts.get('environment', servedBy) ?? [];
  const releases = [...new Set(served.map(({ release }) => release))];
  const [only] = releases;
  if (only === undefined) {
    return refusedBy('release', {
      code: 'environment-empty',
      what: 'there is no release to promote',
      object: to,
      detail: `releases come to ${to} from ${servedBy}, and ${servedBy} has none yet`,
      remedy: isFirst ? 'run `hod publish` first' : `run \`hod promote ${servedBy}\` first`,
    });
  }
  if (releases.length > 1) {
    return refusedBy('release', {
      code: 'several-releases',
      what: 'it is not clear which release to promote',
      object: to,
      detail: `the images that ${servedBy} serves come from ${releases.length} releases: ${served.map(describePosition).join(', ')}`,
      remedy: 'name one with --version or --commit',
    });
  }
  return { kind: 'decided', value: only };
}

function published(release: ReleaseId | undefined, named: string): Decision<ReleaseId> {
  return release !== undefined
    ? { kind: 'decided', value: release }
    : refusedBy('release', {
        code: 'never-published',
        what: 'this was never published',
        object: named,
        detail: 'the ledger has no release of it',
        remedy: 'publish it first; `hod status` shows what each environment serves',
      });
}

/** A release that is to come into an environment from the one before. */
export interface Promotion extends Destination {
  readonly product: string;
  readonly release: Release;
  readonly from: string;
  readonly rules: readonly TagRule[];
  /** The day of the release's commit, `YYYYMMDD`; undefined where git does not know it. */
  readonly date: string | undefined;
}

/** Decides about a promotion: its tags, its gates, and whether the environment serves it from now on. */
export function decidePromotion(promotion: Promotion, known: Knowledge): Decision<Verdict<Plan>> {
  const { product, release, from, environment, rules, images, date } = promotion;
  const { commit, version, branch, build } = release;
  const values = { product, commit, version, branch, build, date, dirty: false };
  const plan: Plan = {
    position: { commit, version },
    release: release.release,
    tags: new Map(images.map(({ image }) => [image, wantedTags(rules, values, image)])),
  };
  return judge(
    plan,
    promotion,
    (facts) => [
      servedBefore(facts.get('release', release.release) ?? release, from, environment),
      someTag(environment, plan.tags, false),
    ],
    known,
  );
}

/** What a promotion writes into the ledger. */
export function promotedAction(
  { environment, from, release: { release, commit, version, branch, build } }: Promotion,
  { decisions, current, gates }: Verdict<Plan>,
  images: PlacedImage[],
): Action {
  return {
    kind: 'promoted',
    release,
    commit,
    version,
    branch,
    build,
    environment,
    from,
    images,
    tags: tagsToSet(decisions),
    current,
    gates: metAmong(gates),
  };
}
