import type { CommitId } from '../commit';
import type { Version } from '../tags/version';
import { verdictIn, type FoundMention, type IdentifyVerdict } from './verdict';

/** What is said to run of a component in an environment. */
export interface RunningContent {
  readonly component: string;
  readonly verdict: IdentifyVerdict;
  readonly version: Version | undefined;
  readonly commit: CommitId | undefined;
  /** What was recognised. */
  readonly text: string;
  readonly times: number;
}

/** What is said to run in an environment: of its components, and beside them. */
export interface Running {
  readonly environment: string;
  readonly components: readonly RunningContent[];
  /** What is of no component that the ledger knows. */
  readonly others: readonly { readonly text: string; readonly verdict: IdentifyVerdict; readonly times: number }[];
}

/**
 * Tells what runs in an environment by what was found in a text. A tag that moves tells nothing where a digest of the same component stands
 * beside it.
 */
export function runningIn(environment: string, found: readonly FoundMention[]): Running {
  const all = found.flatMap((each): RunningContent[] => {
    const { identified, mention, times, standings } = each;
    return (identified.kind === 'known' ? identified.identity.components : []).map(({ component, releases }) => {
      const own = standings.find((one) => one.environment === environment && one.component === component);
      const { version, commit } = own?.release ?? releases[0] ?? { version: undefined, commit: undefined };
      return { component, verdict: verdictIn(each, environment), version, commit, text: mention.text, times };
    });
  });
  const components = all.filter(
    ({ verdict, component }) =>
      verdict !== 'moving' || all.every((other) => other.component !== component || other.verdict === 'moving'),
  );
  const others = found
    .filter(({ identified }) => identified.kind !== 'known')
    .map((each) => ({ text: each.mention.text, verdict: verdictIn(each, environment), times: each.times }));
  return { environment, components, others };
}
