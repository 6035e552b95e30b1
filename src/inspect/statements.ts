import { HodError } from '../core/errors';
import { referrersKey, type FactKey, type Facts, type ServedComponent } from '../core/ledger/facts';
import { kindOf, type ContentKind } from '../core/oci/bundle';
import { imagesByPlatform, readContent } from '../core/oci/content';
import type { AttestedComponent, TrustNow } from '../core/release/gates/attested';
import { readSignedDocuments } from '../delivery/referrers/documents';
import { findReferrers, type Referrer } from '../delivery/referrers/find';
import type { Ledger } from '../ledger/ledger';
import type { RepositoryClient } from '../registry/repository';
import { settleAll } from '../system/promises';

/** A component that is served, and the signed documents about it. */
export interface ServedStatements extends AttestedComponent {
  readonly kind: ContentKind;
  /** When the ledger first knew of a document. */
  readonly knownSince: TrustNow['knownSince'];
}

/**
 * Reads the signed documents about a component that is served, and since when the ledger knows of them.
 *
 * @param places Where it is served, and where else documents about it may be.
 */
export async function readStatements(
  served: ServedComponent,
  places: readonly [RepositoryClient, ...RepositoryClient[]],
  ledger: Pick<Ledger, 'read'>,
): Promise<ServedStatements> {
  const { component, digest, platforms } = served;
  const [own, ...others] = places;
  const node = await readContent(own, served);
  const kind = kindOf(node.manifest);
  // Bundles are Hod's own work, and are not asked.
  const elsewhere = await settleAll(kind === 'bundle' ? [] : others.map((place) => referrersIn(place, served)));
  const referrers = kind === 'bundle' ? [] : [...(await findReferrers(node)), ...elsewhere.flat()];
  const documents = await readSignedDocuments(referrers);
  const keys = documents.flatMap(({ subject }) => places.map(({ label }) => referrersKey(label, subject)));
  const { facts } = await ledger.read([...new Set(keys)].map((key): FactKey => ({ kind: 'referrers', key })));
  const knownSince = (_: string, { subject, referrer }: (typeof documents)[number]) =>
    places.flatMap(({ label }) => timesIn(facts, referrersKey(label, subject), referrer)).sort()[0];
  return { component, digest, kind, images: imagesByPlatform(node.manifest, platforms), documents, knownSince };
}

function timesIn(facts: Facts, key: string, referrer: string) {
  return (facts.get('referrers', key) ?? []).flatMap(({ digest, at }) =>
    digest === referrer && at !== undefined ? [at] : [],
  );
}

/** What refers to a component in another place; nothing where the place does not have it. */
async function referrersIn(place: RepositoryClient, served: ServedComponent): Promise<Referrer[]> {
  try {
    return await findReferrers(await readContent(place, served));
  } catch (error) {
    if (error instanceof HodError && error.fault === 'missing') {
      return [];
    }
    throw error;
  }
}
