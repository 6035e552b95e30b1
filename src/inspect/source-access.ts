import type { ReferencePlace, SourceKind } from '../core/build/output-place';
import { parseRepository, type RepositoryName } from '../core/oci/reference';
import { expandRepository } from '../core/tags/template';
import { findOrigin } from '../delivery/sources/included';
import type { Session } from '../session/session';
import { isIncluded, pushedOutputs, type Config, type IncludedConfig } from '../workspace/config';
import { checkRight, type Right } from './access';

/** Whether content may be read where it comes from; `repository`: undefined where that is not known. */
export interface SourceRights {
  readonly kind: SourceKind;
  readonly component: string;
  readonly repository: RepositoryName | undefined;
  readonly read: Right;
}

interface SourceContext {
  readonly config: Config;
  readonly session: Session;
}

/** Checks whether content can be read where it comes from: of included components, and of builders that push. */
export function checkSources(context: SourceContext): Promise<SourceRights[]> {
  const { components } = context.config;
  const built = pushedOutputs(components).map(({ component, place }) => checkBuildOutput(component, place, context));
  return Promise.all([...components.filter(isIncluded).map((each) => checkInclusion(each, context)), ...built]);
}

/** Checks whether the origin of an included component can be read, and the ledger that names it. */
async function checkInclusion(component: IncludedConfig, context: SourceContext): Promise<SourceRights> {
  let repository: RepositoryName | undefined;
  const read = await checkRight(async () => {
    const { reference } = await findOrigin(component, context);
    const client = context.session.client(reference.repository);
    repository = client.label;
    await client.probeRead();
  });
  return { kind: 'included', component: component.name, repository, read };
}

async function checkBuildOutput(
  component: string,
  place: ReferencePlace,
  { config, session }: SourceContext,
): Promise<SourceRights> {
  const client = session.client(parseRepository(expandRepository(place.repository, component, config.product)));
  return { kind: 'built', component, repository: client.label, read: await checkRight(() => client.probeRead()) };
}
