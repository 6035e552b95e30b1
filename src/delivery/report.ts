import { reportTypes } from '../core/reports/report';
import { bytesArtifact } from '../core/ledger/record-artifact';
import type { ChosenRelease } from '../core/release/promotion';
import { settleAll } from '../system/promises';
import type { Session } from '../session/session';
import type { EnvironmentConfig } from '../workspace/config';
import type { ReportFile } from '../workspace/report-file';
import { Carrier } from './carry';
import type { CarriedReferrers } from './referrers/carry';

/** A report on its way to the registry: it refers to each component that it is about. */
type CarriedReport = Pick<CarriedReferrers, 'target' | 'referrers' | 'carried'>;

/** Sends a report to the registry of an environment, as a referrer of each component that it is about. It is not listed yet. */
export async function carryReport(
  { bytes, report: { format }, path }: ReportFile,
  chosen: readonly ChosenRelease[],
  environment: EnvironmentConfig,
  session: Session,
): Promise<CarriedReport[]> {
  const type = reportTypes[format];
  const carrier = new Carrier({ dryRun: false }, session.observer.transfer);
  const carried = await settleAll(
    chosen
      .flatMap(({ components }) => components)
      .map(async ({ component, digest: subject }): Promise<CarriedReport[]> => {
        const target = session.client(environment.repositoryOf(component));
        const manifest = await target.manifests.get(subject);
        if (manifest === undefined) {
          return [];
        }
        const node = bytesArtifact(type, bytes, manifest, path);
        await carrier.carry(node, target);
        const { digest } = node.manifest;
        const referrer = { subject, digest, type, read: () => Promise.resolve(node) };
        return [{ target, referrers: [referrer], carried: [{ subject, node }] }];
      }),
  );
  return carried.flat();
}
