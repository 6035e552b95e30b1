import { HodError } from '../core/errors';
import { carryImages } from '../delivery/carry-images';
import { toCarryResult, type CarryResult } from '../results/carry';
import { withoutProduct, type SessionOptions } from '../session/session';

/** What `carry` is told. */
export interface CarryOptions extends SessionOptions {
  /** What is carried, and at the end where to. */
  places: readonly string[];
  /** Only the image for this platform, by itself. */
  platform?: string | undefined;
  dryRun?: true | undefined;
}

/** Carries images and artifacts into a repository as they are, with their referrers. */
export async function carry(options: CarryOptions): Promise<CarryResult> {
  const { places, platform } = options;
  const [sources, target] = [places.slice(0, -1), places.at(-1)];
  if (target === undefined || sources.length === 0) {
    throw new HodError('command-line', {
      what: 'the target is missing',
      object: places.join(' '),
      why: 'what is carried comes first, and the repository that it goes to last',
      next: '`hod carry dev.registry.test/skerry/timetable:2.4.0 registry.test/skerry/timetable`',
    });
  }
  const dryRun = options.dryRun === true;
  return withoutProduct(options, async (session) =>
    toCarryResult(await carryImages({ sources, target, platform }, { session, dryRun }), { dryRun }),
  );
}
