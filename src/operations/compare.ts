import { compareSides } from '../inspect/compare';
import { toCompareResult, type CompareResult } from '../results/compare';
import { tellingRemovals } from '../session/open-ledger';
import { withProductIfAny, type SessionOptions } from '../session/session';

/** What `compare` is told: environments, versions, commits, references or build outputs. */
export interface CompareOptions extends SessionOptions {
  from: string;
  to: string;
  /** Read every layer of what changed, and tell the paths that differ. */
  inside?: true | undefined;
}

/** What differs between two environments, releases or images: commits, and component by component what is in them. */
export async function compare({ from, to, inside, ...options }: CompareOptions): Promise<CompareResult> {
  return withProductIfAny(options, async (config, session) =>
    tellingRemovals(config, session, async () =>
      toCompareResult(await compareSides([from, to], { inside: inside === true }, { config, session })),
    ),
  );
}
