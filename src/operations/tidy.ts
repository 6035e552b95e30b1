import { HodError } from '../core/errors';
import type { Actor } from '../core/ledger/entry';
import { notFrozenForTidying } from '../core/tidy/frozen';
import { refuseUnmet } from '../core/release/refusal';
import { setTimeout as delay } from 'node:timers/promises';
import { timestampOf } from '../core/time';
import { withAnnouncing } from '../announcing/announce';
import { toTidyResult, type TidyResult } from '../results/tidy';
import { actorOf } from '../session/actor';
import { refuseEmpty } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { findTidy, tidyUp } from '../tidying/tidy';
import { tidyQuestion } from '../inspect/growth';
import type { UnknownRule } from '../tidying/tidying';
import { environmentNamed } from '../workspace/config';

/** What `tidy` is told. */
export interface TidyOptions extends SessionOptions {
  /** The environments whose repositories are tidied; all where none is named. */
  environments: readonly string[];
  remove?: true | undefined;
  versions?: true | undefined;
  /** What the ledger does not know may go too, where it says that it was made so many milliseconds ago. */
  unknown?: true | undefined;
  olderThan?: number | undefined;
  /** Remove at most so much content. */
  limit?: number | undefined;
  /** Wait so many milliseconds between two batches. */
  pause?: number | undefined;
  actor?: string | undefined;
}

/** Says what may go from the repositories of environments, and why the rest stays; removes it where that is asked for. */
export async function tidy(options: TidyOptions): Promise<TidyResult> {
  return withProduct(options, async (config, session) => {
    const { product } = config;
    const chosen =
      options.environments.length === 0
        ? config.environments
        : [...new Set(options.environments)].map((name) => environmentNamed(config, name));
    const dryRun = options.remove !== true;
    if (!dryRun) {
      const now = timestampOf(new Date());
      refuseUnmet(chosen.map(({ name, admissionRules }) => notFrozenForTidying(name, admissionRules, now)));
    }
    const actor = (): Promise<Actor> => actorOf(options.actor, config, session);
    return withAnnouncing(config, session, { actor, dryRun }, async (ledger) => {
      await refuseEmpty(config, ledger);
      const question = await tidyQuestion(config, {
        chosen: chosen.map(({ name }) => name),
        versions: options.versions === true,
        unknown: unknownRule(options),
      });
      const clients = new Map<string, ReturnType<typeof session.client>>();
      const context = {
        ledger,
        client: (repository: Parameters<typeof session.client>[0]) => {
          const client = session.client(repository);
          clients.set(client.label, client);
          return client;
        },
      };
      const pace = { limit: options.limit, pause: () => delay(options.pause ?? 0) };
      const tidied = dryRun
        ? await findTidy(question, context)
        : await tidyUp(question, pace, { ...context, product, actor: await actor(), observer: session.observer });
      const requests = [...clients.values()].reduce((sum, { requests: sent }) => sum + sent, 0);
      return toTidyResult({ product, dryRun, requests }, chosen, tidied);
    });
  });
}

/** Which unknown content may go. Throws `options-conflict` where only one of the two options is given. */
function unknownRule({ unknown, olderThan }: TidyOptions): UnknownRule | undefined {
  if ((unknown === true) !== (olderThan !== undefined)) {
    throw new HodError('options-conflict', {
      what: '--unknown and --older-than go together',
      object: unknown === true ? '--unknown' : '--older-than',
      why: 'what the ledger does not know goes by its age alone, and what it knows goes by `keep` in hod.yaml',
      next: 'say both, such as `hod tidy --unknown --older-than 90d`, or neither',
    });
  }
  return olderThan === undefined ? undefined : { olderThan, before: timestampOf(new Date(Date.now() - olderThan)) };
}
