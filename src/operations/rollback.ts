import type { Actor } from '../core/ledger/entry';
import { HodError } from '../core/errors';
import { laneNamed } from '../core/ledger/lane';
import { needReason } from '../core/release/despite';
import { withAnnouncing } from '../announcing/announce';
import { commitOrders } from '../delivery/orders';
import { placesIn } from '../delivery/places';
import type { TogetherMember } from '../delivery/together';
import { rollBack } from '../delivery/rollback';
import { readNamed } from '../delivery/sources/choice';
import { toRollbackResult, type RollbackResult } from '../results/rollback';
import { actorOf } from '../session/actor';
import { refuseEmpty } from '../session/open-ledger';
import { withProduct, type SessionOptions } from '../session/session';
import { environmentNamed } from '../workspace/config';
import { stepsAfterRollback } from './next-steps';

/** What `rollback` is told. */
export interface RollbackOptions extends SessionOptions {
  environment: string;
  /** The version to go back to, or the commit; what was served before, where neither is given. */
  to?: string | undefined;
  commit?: string | undefined;
  /** The line of versions, or the branch, that goes back alone. */
  line?: string | undefined;
  reason?: string | undefined;
  actor?: string | undefined;
  dryRun?: true | undefined;
  /** The part of the product in what several products do in one step. */
  member?: TogetherMember | undefined;
}

/** Rolls an environment back to what it served before, or one line of it: checks that it is there still, records it, and moves the tags. */
export async function rollback(options: RollbackOptions): Promise<RollbackResult> {
  return withProduct(options, async (config, session) => {
    const { product, folder } = config;
    const environment = environmentNamed(config, options.environment);
    const { name } = environment;
    const reason = needReason(options.reason, `hod rollback ${name}`);
    const to = await readNamed(folder, { version: options.to, commit: options.commit }, '--to');
    const lane = options.line === undefined ? undefined : readLane(options.line);
    const dryRun = options.dryRun === true;
    const about = { command: 'rollback', environment: name } as const;
    const actor = (): Promise<Actor> => actorOf(options.actor, config, session);
    return withAnnouncing(config, session, { about, actor, dryRun }, async (ledger) => {
      await refuseEmpty(config, ledger);
      const items = await placesIn(config, environment, { ledger, session });
      const { before } = environment;
      const { plan, decisions } = await rollBack(
        {
          environment: name,
          lane,
          before,
          to,
          reason,
          records: environment.carrying !== 'none',
        },
        items,
        {
          ledger,
          orders: commitOrders(folder),
          actor: await actor(),
          product,
          observer: session.observer,
          dryRun,
          together: options.member,
        },
      );
      const requests = items.reduce((sum, { target }) => sum + target.requests, 0);
      const about = { product, environment: name, reason, dryRun, requests };
      const result = toRollbackResult(
        about,
        plan,
        decisions,
        (component) => session.client(environment.repositoryOf(component)).label,
      );
      const changed = !dryRun && result.components.some((component) => component.changed);
      return { ...result, next: changed ? stepsAfterRollback(options.config) : [] };
    });
  });
}

/** Reads which line is meant. Throws `not-a-line` where none is named. */
function readLane(line: string): string {
  if (line.trim() === '') {
    throw new HodError('not-a-line', {
      what: 'no line is named',
      object: `--line '${line}'`,
      why: 'it names a line of versions, or a branch',
      next: 'write --line 2.4, or leave --line out to roll the whole environment back',
    });
  }
  return laneNamed(line);
}
