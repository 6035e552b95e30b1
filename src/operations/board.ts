import pLimit from 'p-limit';
import { HodError } from '../core/errors';
import { runnableImages, readContent } from '../core/oci/content';
import type { Digest } from '../core/oci/digest';
import { parseRepository } from '../core/oci/reference';
import { figuresOf, ReleaseHistory, type ReleaseLife } from '../core/insight/figures';
import type { PlacedComponent } from '../core/ledger/release';
import { eventIn, type TimelineEvent } from '../core/insight/timeline';
import { timestampOf } from '../core/time';
import { brief, isNamed, readStatus } from '../inspect/status';
import { releasesIn } from '../inspect/timeline';
import { toBoardRelease, toFigures, type BoardData } from '../results/board';
import { toStatusResult } from '../results/status';
import { toEvent } from '../results/timeline';
import { refuseEmpty, withLedger } from '../session/open-ledger';
import { withProduct, type Session, type SessionOptions } from '../session/session';
import type { Config } from '../workspace/config';
import { commitTimes } from '../workspace/git';

/** What `board` is told. */
export interface BoardOptions extends SessionOptions {
  /** Ask no registry: neither for drift, nor for sizes. */
  ledgerOnly?: true | undefined;
}

/** Everything that the page shows, from the ledger, git and the registries. */
export async function board(options: BoardOptions): Promise<BoardData> {
  return withProduct({ patience: brief, ...options }, async (config, session) =>
    withLedger(config, session, 'read', async (ledger) => {
      await refuseEmpty(config, ledger);
      const found = toStatusResult(await readStatus({ environments: [], ...options }, { config, session, ledger }), []);
      const { environments, expiring, announcements, ledger: record } = found;
      const history = new ReleaseHistory();
      const events: TimelineEvent[] = [];
      for await (const sealed of ledger.entries()) {
        history.add(sealed);
        const event = eventIn(sealed);
        events.push(...(event === undefined ? [] : [event]));
      }
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
        releases: releases.map((each) => toBoardRelease(each, committed.get(each.commit))),
        figures: toFigures(figuresOf(history, names, committed)),
        // Where its registry does not answer, nobody waits for it once for each component.
        sizes: asked && environments[0]?.silent === null ? await sizesOf(releases, config, session) : [],
        events: shown.map((each) => toEvent(each, known)),
        more: events.length > mostEvents,
      };
    }),
  );
}

/** So many events are on the page: more would keep a browser busy. */
const mostEvents = 20_000;

/** So many versions of each component are measured, and never more than so many components in all. */
const [mostVersions, mostMeasured] = [20, 400];

/** How large components were, over the latest versions. What cannot be read is left out. */
async function sizesOf(
  releases: readonly ReleaseLife[],
  config: Config,
  session: Session,
): Promise<BoardData['sizes']> {
  const names = config.components.map(({ name }) => name);
  const count = Math.max(2, Math.min(mostVersions, Math.floor(mostMeasured / Math.max(1, names.length))));
  const versions = releases.filter(({ version }) => version !== undefined).slice(-count);
  const [first] = config.environments;
  const known = new Map<Digest, Promise<number | undefined>>();
  const turn = pLimit(16);
  const sizes = names.map(async (component) => {
    const points = versions.map(async ({ version = '', components }) => {
      const placed = components.find((each) => each.component === component);
      if (placed === undefined || !isNamed(placed, first)) {
        return [];
      }
      const measured = known.get(placed.digest) ?? turn(() => sizeOf(placed, session));
      known.set(placed.digest, measured);
      const bytes = await measured;
      return bytes === undefined ? [] : [{ version, bytes }];
    });
    return { component, points: (await Promise.all(points)).flat() };
  });
  return (await Promise.all(sizes)).filter(({ points }) => points.length > 0);
}

/** Bytes of the layers of a component, for the platform for which it is largest; undefined where that cannot be read. */
async function sizeOf(placed: PlacedComponent, session: Session): Promise<number | undefined> {
  try {
    const node = await readContent(session.client(parseRepository(placed.repository)), placed);
    const components = await runnableImages(node);
    const own = components.map(({ manifest }) => manifest.layers.reduce((sum, { size }) => sum + size, 0));
    return own.length === 0 ? undefined : Math.max(...own);
  } catch (error) {
    if (error instanceof HodError) {
      return undefined;
    }
    throw error;
  }
}
