import type { DeliveredResult } from '../results/delivery';
import type { NextStep } from '../results/common';
import type { Config } from '../workspace/config';

/** What people do after a release took over in an environment, with the names of this product. */
export function stepsAfterDelivery(
  { environments }: Config,
  environment: string,
  images: readonly Pick<DeliveredResult, 'way' | 'tags'>[],
): NextStep[] {
  const outcomes = images.flatMap(({ tags }) => tags.map(({ outcome }) => outcome));
  if (
    !images.some(({ way }) => way === 'takes-over') ||
    !outcomes.some((each) => each === 'created' || each === 'moved')
  ) {
    return [];
  }
  const after = environments.find((each) => each.after === environment)?.name;
  return [
    ...(after === undefined
      ? [{ command: 'hod status', does: 'shows what every environment serves' }]
      : [
          { command: `hod compare ${after} ${environment}`, does: `tells what would change in ${after}` },
          { command: `hod promote ${after}`, does: `brings it to ${after}, through its gates` },
        ]),
    ...(outcomes.includes('moved')
      ? [{ command: `hod rollback ${environment} --reason "…"`, does: 'goes back, where it is wrong' }]
      : []),
  ];
}

/** What people do after an environment was taken back. */
export function stepsAfterRollback(): NextStep[] {
  return [
    { command: 'hod status', does: 'shows what every environment serves' },
    { command: 'hod timeline', does: 'tells who did what, and when' },
  ];
}
