import { reportTypes } from '../core/reports/report';
import { bytesArtifact, documentArtifact } from '../core/ledger/record-artifact';
import { envelopeDocument, signedBytes } from '../core/trust/dsse';
import type { RecordSigner } from '../core/trust/signer';
import { statementPayload } from '../core/trust/statement';
import type { ChosenRelease } from '../core/release/promotion';
import { settleAll } from '../system/promises';
import type { Session } from '../session/session';
import type { EnvironmentConfig } from '../workspace/config';
import type { ReportFile } from '../workspace/report-file';
import { Carrier } from './carry';
import type { CarriedReferrers } from './referrers/carry';
import { recordReferrer } from './referrers/own-records';

/** A report on its way to the registry: it refers to each component that it is about. */
type CarriedReport = Pick<CarriedReferrers, 'target' | 'referrers' | 'carried'>;

/** The artifact type of a signed result, and the predicate type of the statement in it. */
const [signedResultType, resultPredicate] = ['application/vnd.hod.result.v1.dsse+json', 'urn:hod:result:v1'];

/** What a report decided, and who signs that; undefined where nobody signs. */
export interface ReportedResult {
  readonly name: string;
  readonly passed: boolean;
  readonly signer: RecordSigner | undefined;
}

/**
 * Sends a report to the registry of an environment, as a referrer of each component that it is about, and the signed result beside
 * it. Neither is listed yet.
 *
 * @throws `signing-failed`
 */
export async function carryReport(
  { bytes, report: { format }, summary, path }: ReportFile,
  { name, passed, signer }: ReportedResult,
  chosen: readonly ChosenRelease[],
  { environment, session }: { readonly environment: EnvironmentConfig; readonly session: Session },
): Promise<CarriedReport[]> {
  const type = reportTypes[format];
  const components = chosen.flatMap((each) => each.components);
  const statement = statementPayload(
    resultPredicate,
    { name, passed, environment: environment.name, report: summary },
    components.map(({ component, digest }) => ({ name: component, digest })),
  );
  const signature = await signer?.sign(signedBytes(statement));
  const signed = signature === undefined ? undefined : envelopeDocument(statement, signature);
  const carrier = new Carrier({ dryRun: false }, session.observer.transfer);
  const carried = await settleAll(
    components.map(async ({ component, digest: subject }): Promise<CarriedReport[]> => {
      const target = session.client(environment.repositoryOf(component));
      const manifest = await target.manifests.get(subject);
      if (manifest === undefined) {
        return [];
      }
      const nodes = [
        bytesArtifact(type, bytes, manifest, path),
        ...(signed === undefined ? [] : [documentArtifact(signedResultType, signed, manifest, `the result ${name}`)]),
      ];
      await settleAll(nodes.map((node) => carrier.carry(node, target)));
      const referrers = nodes.map((node) => recordReferrer(subject, node));
      return [{ target, referrers, carried: nodes.map((node) => ({ subject, node })) }];
    }),
  );
  return carried.flat();
}
