import { describeDuration, formatCount } from '../amounts';

/** What an environment keeps of what came into it, beside what is needed: `keep` in hod.yaml. */
export interface KeepRules {
  /** So many of the newest releases of each component. */
  readonly releases: number | undefined;
  /** What came in during so many milliseconds. */
  readonly for: number | undefined;
  /** So many of the newest releases of each component on each branch that is not followed; then `releases` counts the others. */
  readonly branches: number | undefined;
  /** So many rollbacks, one after the other, stay possible. */
  readonly rollbacks: number;
}

/** So many rollbacks stay possible where hod.yaml does not say. */
export const usualRollbacks = 3;

/** Says what an environment keeps: `30 releases, 5 releases of each other branch, all of 14 d`. */
export function describeKeep({ releases, branches, for: time }: KeepRules): string {
  return [
    ...(releases === undefined ? [] : [formatCount(releases, 'release')]),
    ...(branches === undefined ? [] : [`${formatCount(branches, 'release')} of each other branch`]),
    ...(time === undefined ? [] : [`everything of the last ${describeDuration(time)}`]),
  ].join(', ');
}
