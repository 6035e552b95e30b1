import type { Build } from '../build/build';
import { isSameRemote } from '../remote-identity';
import { branchesOf, type Following } from '../build/following';
import type { Decision, Knowledge, Need } from './knowledge';
import {
  followsOf,
  inForceNeeds,
  rulesInForce,
  rulesNeeds,
  standingKnown,
  whyNotVouched,
  type CheckoutRules,
} from './gates/rules-in-force';

/** What a build says of its branch, and which branches are followed. */
export interface BranchClaim {
  readonly build: Build;
  readonly following: Following;
}

/**
 * Checks what a build says of its branch where rules in force came from a remote: that remote must have its commit on the branch,
 * and the branches that are followed are those of the rules in force. A job of a pull request may say what it likes, in hod.yaml,
 * options and variables. Where no remote vouches for rules, a build is believed.
 */
export function trustedFollowing(
  claim: BranchClaim,
  { environment, checkout }: { readonly environment: string; readonly checkout: CheckoutRules | undefined },
  known: Knowledge,
): Decision<BranchClaim> {
  const asIs = { kind: 'decided', value: claim } as const;
  if (checkout === undefined) {
    return asIs;
  }
  const unknown = known.missing(inForceNeeds(environment));
  if (unknown !== undefined) {
    return unknown;
  }
  const inForce = rulesInForce(known.facts, environment);
  if (inForce?.source === undefined) {
    return asIs;
  }
  const { build, following } = claim;
  const holding = { kind: 'holding', commit: build.commit, branches: branchesOf(following) } as const;
  const others = followsOf(inForce.rules)?.join(' ') !== followsOf(checkout.rules)?.join(' ');
  const needs: Need[] = [
    ...(others ? rulesNeeds(checkout, known.facts, { environment, isFollowed: true }) : []),
    ...(holding.branches.length > 0 ? [holding] : []),
  ];
  const more = known.missing(needs);
  if (more !== undefined) {
    return more;
  }
  const standing = standingKnown(known, environment);
  const vouched = others && whyNotVouched(checkout, inForce, { standing, ancestry: known.ancestry }) === undefined;
  const branches = (!others || vouched ? undefined : followsOf(inForce.rules)) ?? following.branches;
  const found = known.holdingOf(holding);
  const isShared = found?.remote !== undefined && isSameRemote(found.remote, inForce.source.remote);
  const held = isShared ? found.branches : [];
  const isHeld = (branch: string): boolean => held.includes(branch);
  const branch = build.branch !== undefined && (build.pullRequest || isHeld(build.branch)) ? build.branch : undefined;
  const elsewhere = `this clone is of ${found?.remote ?? ''}; if the repository moved, \`hod record rules --for ${environment}\` says so`;
  const why = isShared || found?.remote === undefined ? (found?.why ?? '') : elsewhere;
  const unproven =
    build.branch === undefined || branch !== undefined
      ? undefined
      : `${inForce.source.remote} does not say that it is of ${build.branch}: ${why}`;
  return {
    kind: 'decided',
    value: {
      build: { ...build, branch },
      following: { ...following, branches, branch, containing: following.containing.filter(isHeld), unproven },
    },
  };
}
