import type { RepositoryName } from '../core/oci/reference';
import { findOrigin } from '../delivery/sources/included';
import type { Session } from '../session/session';
import type { Config, IncludedConfig } from '../workspace/config';
import { checkRight, type Right } from './access';

/** Whether the origin of an included component may be read; `repository`: undefined where it is not known. */
export interface InclusionRights {
  readonly component: string;
  readonly repository: RepositoryName | undefined;
  readonly read: Right;
}

/** Checks whether the origin of an included component can be read, and the ledger that names it. */
export async function checkInclusion(
  component: IncludedConfig,
  context: { readonly config: Config; readonly session: Session },
): Promise<InclusionRights> {
  let repository: RepositoryName | undefined;
  const read = await checkRight(async () => {
    const { reference } = await findOrigin(component, context);
    const client = context.session.client(reference.repository);
    repository = client.label;
    await client.probeRead();
  });
  return { component: component.name, repository, read };
}
