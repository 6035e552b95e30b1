import { deepStrictEqual as same, ok } from 'node:assert';
import fc from 'fast-check';
import { withdrawalOf, withdrawnKey } from '../../src/core/ledger/facts';
import { contentId, type ReleaseId } from '../../src/core/ledger/release';
import { rebuild } from '../../src/rebuild/rebuild';
import { recordDocument } from '../../src/core/ledger/release-record';
import { DeliveryWorld, product } from './delivery-world';
import { signerFor } from '../support/signing';
import { modelOf, type Model } from './model';
import {
  change,
  environments,
  event,
  historyOf,
  looks,
  names,
  playEvents,
  refusal,
  type Name,
} from './three-environments';

/** Whether releases came into an environment as they were published, each taking over, and none was taken back: then its way back is known. */
function hasKnownWay(world: DeliveryWorld, name: Name): boolean {
  const published = world.entries.flatMap(({ entry: { action } }) =>
    action.kind === 'published' ? [action.release] : [],
  );
  const came = world.entries.flatMap(({ entry: { action } }) =>
    (action.kind === 'published' || action.kind === 'promoted') && action.environment === name ? [action.release] : [],
  );
  const order = came.map((release) => published.indexOf(release));
  const back = world.entries.some(
    ({ entry: { action } }) => action.kind === 'rolled-back' && action.environment === name,
  );
  return !back && order.every((at, which) => which === 0 || at > (order[which - 1] ?? 0));
}

/** The releases of a world. */
function releasesOf(world: DeliveryWorld): ReleaseId[] {
  const all = world.entries.flatMap(({ entry: { action } }) => (action.kind === 'published' ? [action.release] : []));
  return [...new Set(all)];
}

/** Whether something came into an environment after it was taken back, or once more: when it came cannot be made out, and is said. */
function isSaid(world: DeliveryWorld): boolean {
  const back = new Set<string>();
  const came = new Set<string>();
  return world.entries.some(({ entry: { action } }) => {
    if (action.kind === 'rolled-back') {
      back.add(action.environment);
      return false;
    }
    if (action.kind !== 'published' && action.kind !== 'promoted') {
      return false;
    }
    const key = `${action.environment} ${action.release}`;
    const again = came.has(key);
    came.add(key);
    return again || back.has(action.environment);
  });
}

const signer = signerFor('build');

/** With a ledger that was lost and made again, what comes next is decided as it would have been. */
export function rebuildModel(): Model {
  const counts = {
    withdrawn: 0,
    compared: 0,
    withBack: 0,
    withLine: 0,
    wayBack: 0,
    unexplained: 0,
    unknown: 0,
    worlds: 0,
    signed: 0,
  };
  return modelOf(
    'rebuild',
    fc.asyncProperty(
      fc.array(change, { minLength: 10, maxLength: 10 }),
      fc.array(event, { minLength: 6, maxLength: 18, size: 'max' }),
      fc.boolean(),
      async (changes, events, removesTags) => {
        const commits = historyOf(changes);
        const world = new DeliveryWorld(commits, environments, () => Promise.resolve(), removesTags);
        counts.worlds += 1;
        // Some worlds sign: their records must be the same, byte by byte.
        world.signer = events.length % 2 === 0 ? signer : undefined;
        const next = await playEvents(events, commits, world);
        const rebuilt = await rebuild(world.remains());
        for (const id of releasesOf(world)) {
          const [made, old] = [rebuilt.facts, world.facts].map((facts) => facts.get('release', id));
          if (made?.recordSignature !== undefined && old !== undefined) {
            counts.signed += 1;
            same(recordDocument(product, made), recordDocument(product, old));
          }
        }
        counts.unexplained += rebuilt.unexplained.length;
        const said = new Set(rebuilt.unexplained.map(({ environment }) => environment));
        counts.withBack += rebuilt.entries.some(({ entry }) => entry.action.kind === 'rolled-back') ? 1 : 0;
        counts.withLine += rebuilt.entries.some(
          ({ entry: { action } }) => action.kind === 'rolled-back' && action.left !== undefined,
        )
          ? 1
          : 0;
        // What was withdrawn does not come back by a ledger that is made again.
        for (const name of names.filter((each) => !said.has(each))) {
          for (const id of releasesOf(world)) {
            const content = contentId(world.facts.get('release', id)?.components ?? []);
            const key = { kind: 'withdrawn', key: withdrawnKey(name, content) } as const;
            const isWithdrawn = world.facts.has(key) && withdrawalOf(world.facts, name, content) !== undefined;
            if (isWithdrawn) {
              counts.withdrawn += 1;
              ok(withdrawalOf(rebuilt.facts, name, content) !== undefined, `${name} ${id}`);
            }
          }
        }
        const both = async (work: (fork: DeliveryWorld) => Promise<unknown>): Promise<void> => {
          const [old, made] = [world.fork(world.entries), world.fork(rebuilt.entries)];
          const [one, other] = [await refusal(work(old)), await refusal(work(made))];
          same({ outcome: other, ...looks(made) }, { outcome: one, ...looks(old) });
          counts.compared += 1;
        };
        counts.unknown += isSaid(world) ? 1 : 0;
        if (said.size === 0 && !isSaid(world)) {
          await both(() => Promise.resolve());
          for (const commit of [commits[next], commits[next + 1], commits[Math.max(0, next - 2)]]) {
            // What was withdrawn, and something newer came since: that is said.
            const release = commit && world.facts.get('commit', commit.id)?.release;
            const held = release && world.facts.get('release', release);
            const isWithdrawn =
              held &&
              names.some(
                (name) =>
                  world.facts.has({ kind: 'withdrawn', key: withdrawnKey(name, contentId(held.components)) }) &&
                  withdrawalOf(world.facts, name, contentId(held.components)) !== undefined,
              );
            if (commit !== undefined && isWithdrawn !== true) {
              await both((fork) => fork.publish(commit));
            }
          }
          await both((fork) => fork.promote(['dev', 'uat']));
          await both((fork) => fork.promote(['uat', 'prod']));
          for (const name of names.filter((each) => hasKnownWay(world, each))) {
            counts.wayBack += 1;
            await both((fork) => fork.rollback(name, 'it leaks'));
          }
        }
      },
    ),
    () => {
      ok(counts.compared > 100);
      ok(counts.signed > 20);
      ok(counts.withdrawn > 5);
      ok(counts.withBack > 0);
      ok(counts.withLine > 0);
      ok(counts.wayBack > 20);
    },
  );
}
