import { figuresOf, ReleaseHistory, type ReleaseLife } from '../core/insight/figures';
import { eventIn, type TimelineEvent } from '../core/insight/timeline';
import { HodError } from '../core/errors';
import { formatRepository } from '../core/oci/reference';
import { asOneLine, type Text } from '../core/text';
import { timestampOf } from '../core/time';
import { readGrowth } from '../inspect/growth';
import { sizesOf } from '../inspect/sizes';
import { brief, readStatus } from '../inspect/status';
import { releasesIn } from '../inspect/timeline';
import { toBoardRelease, toFigures, type BoardData, type BoardPull, type BoardsData } from '../results/board';
import { toGrowth, toStatusResult } from '../results/status';
import { toEvent } from '../results/timeline';
import type { Ledger } from '../ledger/ledger';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import type { Config } from '../workspace/config';
import { commitTimes } from '../workspace/git';
import { overProducts, type ProductRun } from './products';

/** What `board` is told. */
export interface BoardOptions extends SessionOptions {
  /** Ask no registry: neither for drift, nor for sizes. */
  ledgerOnly?: true | undefined;
}

/** A product that could not be read. */
interface Failure {
  readonly config: string;
  readonly error: HodError;
}

/** Everything that the page shows, from the ledger, git and the registries. */
export async function board(options: BoardOptions): Promise<BoardData> {
  return withProduct({ patience: brief, ...options }, async (config, session) =>
    withLedger(config, session, 'read', async (ledger) => {
      await refuseEmpty(config, ledger);
      const found = toStatusResult(await readStatus({ environments: [], ...options }, { config, session, ledger }), []);
      const { environments, expiring, announcements, ledger: record } = found;
      const { history, events } = await readHistory(ledger);
      const releases = [...history.releases.values()];
      const committed = await commitTimes(
        config.folder,
        releases.map(({ commit }) => commit),
      );
      const names = config.environments.map(({ name }) => name);
      const asked = options.ledgerOnly !== true;
      const shown = events.slice(-mostEvents).reverse();
      const known = await releasesIn(shown, ledger);
      return {
        product: config.product,
        written: timestampOf(new Date()),
        ledger: record,
        asked,
        environments,
        expiring,
        announcements,
        growth: (await readGrowth(names, { config, session, ledger }, { ask: false })).map(toGrowth),
        releases: releases.map((each, at) =>
          toBoardRelease(each, {
            committed: committed.get(each.commit),
            pulls: at < releases.length - mostDetailed ? undefined : pullsOf(each, config),
          }),
        ),
        figures: toFigures(figuresOf(history, names, committed)),
        // Where its registry does not answer, nobody waits for it once for each component.
        sizes: asked && environments[0]?.silent === null ? await sizesOf(releases, config, session) : [],
        events: shown.map((each) => toEvent(each, known)),
        more: events.length > mostEvents,
      };
    }),
  );
}

/** What the page of several products shows. One that cannot be read is named on it, and its error answered beside. */
export async function boards(
  configs: readonly string[],
  options: BoardOptions,
): Promise<{ readonly data: BoardsData; readonly failures: readonly Failure[] }> {
  const products: BoardData[] = [];
  const failures: Failure[] = [];
  const working = (run: ProductRun): Promise<BoardData> => board({ ...options, ...run });
  for await (const outcome of overProducts(configs, { ...options, together: false }, working)) {
    if (!('error' in outcome)) {
      products.push(outcome.result);
    } else if (outcome.error instanceof HodError) {
      failures.push({ config: outcome.config, error: outcome.error });
    } else {
      throw outcome.error;
    }
  }
  const shown = (text: Text = ''): string => options.secrets?.redact(asOneLine(text)) ?? asOneLine(text);
  const unread = failures.map(({ config, error: { problem } }) => {
    return { config, what: shown(problem.what), why: shown(problem.why) };
  });
  return { data: { written: timestampOf(new Date()), products, unread }, failures };
}

/** All that the ledger tells. */
async function readHistory(ledger: Pick<Ledger, 'entries'>) {
  const history = new ReleaseHistory();
  const events: TimelineEvent[] = [];
  for await (const sealed of ledger.entries()) {
    history.add(sealed);
    const event = eventIn(sealed);
    events.push(...(event === undefined ? [] : [event]));
  }
  return { history, events };
}

/** So many events are on the page, and so many of the latest releases with all that is in them: more would keep a browser busy. */
const [mostEvents, mostDetailed] = [20_000, 200];

/** How the components of a release are pulled, from the repositories of each environment that it came into. */
function pullsOf({ arrivals, components }: ReleaseLife, config: Config): BoardPull[] {
  const into = new Set(arrivals.filter(({ way }) => way !== 'held').map(({ environment }) => environment));
  const known = new Set(config.components.map(({ name }) => name));
  return config.environments
    .filter(({ name }) => into.has(name))
    .flatMap((environment) =>
      components
        .filter(({ component }) => known.has(component))
        .map(({ component, digest }) => {
          const reference = `${formatRepository(environment.repositoryOf(component))}@${digest}`;
          return { environment: environment.name, component, reference };
        }),
    );
}
