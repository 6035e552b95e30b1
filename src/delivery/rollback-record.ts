import { HodError, messageOf } from '../core/errors';
import { rollbackArtifact, type RollbackRecord } from '../core/ledger/rollback-record';
import type { Digest } from '../core/oci/digest';
import { lastRollback } from '../core/release/told-rollback';
import type { RepositoryTarget } from '../registry/ports';
import { settleAll } from '../system/promises';
import { Carrier } from './carry';
import type { DeliveryContext } from './delivery';
import { Judge } from './judge';
import type { Place } from './places';
import { listReferrers, type CarriedReferrers } from './referrers/carry';

/**
 * Lets registries tell of the last rollback of an environment: a record refers to each manifest that was withdrawn, so that a ledger
 * that is lost and made again does not let it come back. A rollback that a registry cannot be told of is a rollback all the same.
 */
export async function recordLastRollback(
  environment: string,
  places: readonly Place[],
  context: DeliveryContext & { readonly product: string },
): Promise<void> {
  const { ledger, product, observer } = context;
  try {
    const told = (await new Judge(context, places).decide((known) => lastRollback(product, environment, known))).value;
    if (told === undefined) {
      return;
    }
    const subjects = new Map(
      told.withdrawn.flatMap(({ component, digest }) => {
        const target = places.find((each) => each.component === component)?.target;
        return target === undefined ? [] : [[`${target.label}@${digest}`, { target, digest }] as const];
      }),
    );
    const carrier = new Carrier({ dryRun: false }, observer.transfer);
    const carried = await settleAll(
      [...subjects.values()].map(({ target, digest }) => carryRecord(told.record, target, digest, carrier)),
    );
    await listReferrers(carried.flat(), ledger);
  } catch (error) {
    if (!(error instanceof HodError)) {
      throw error;
    }
    observer.note(
      `${environment} was rolled back, but the registry did not take the record of the rollback (${messageOf(error)}). Run the same command again to write it: a rebuilt ledger needs it`,
    );
  }
}

async function carryRecord(
  record: RollbackRecord,
  target: RepositoryTarget,
  digest: Digest,
  carrier: Carrier,
): Promise<Pick<CarriedReferrers, 'target' | 'carried'>[]> {
  const subject = await target.manifests.get(digest);
  if (subject === undefined) {
    return [];
  }
  const node = rollbackArtifact(record, subject);
  const listed = await target.referrers.referrersOf(digest);
  if (listed.some(({ descriptor }) => descriptor.digest === node.manifest.digest)) {
    return [];
  }
  await carrier.carry(node, target);
  return [{ target, carried: [{ subject: digest, node }] }];
}
