import { HodError } from '../core/errors';
import { decideIdentity, type Identity } from '../core/identify/identity';
import { factsOfRemovals } from '../core/ledger/entries/there-again';
import { removalOf, tagKey } from '../core/ledger/facts';
import { removalText, type ManifestPlace } from '../core/ledger/relied-on';
import { isDigest } from '../core/oci/digest';
import { formatRepository, parseReference, repositoryNameSchema } from '../core/oci/reference';
import { Refusal } from '../core/release/refusal';
import { describePosition } from '../core/tags/ordering';
import { joinLines } from '../core/text';
import { answerFrom } from '../ledger/fact-reader';
import type { Ledger } from '../ledger/ledger';

/** Manifests in repositories: `registry/name@digest`. */
const places = /([^\s@]+)@(sha(?:256:[a-f0-9]{64}|512:[a-f0-9]{128}))(?![a-f0-9])/g;
const digests = /sha(?:256:[a-f0-9]{64}|512:[a-f0-9]{128})(?![a-f0-9])/g;
/** So many digests of an error are looked up. */
const mostDigests = 4;

/**
 * Tells an error which release the digest that it names is of, where the ledger knows. The error stays as it is where the ledger
 * cannot tell.
 */
export async function tellRelease(error: unknown, ledger: Pick<Ledger, 'read'>): Promise<void> {
  // A rule that says no names the release itself.
  if (!(error instanceof HodError) || error instanceof Refusal) {
    return;
  }
  const { object = '', why = '' } = error.problem;
  const placed = [...`${joinLines(object)}\n${joinLines(why)}`.matchAll(places)];
  const named = [...`${joinLines(object)}\n${joinLines(why)}`.matchAll(digests)].map(([text]) => text);
  try {
    await tellRemoval(error, placed, ledger);
    for (const digest of [...new Set(named)].filter(isDigest).slice(0, mostDigests)) {
      const found = await answerFrom(ledger, (known) => decideIdentity(digest, known));
      if (found.kind === 'known' && found.identity.components.length > 0) {
        error.problem.release = found.identity.components.map(holderText).join('; ');
        return;
      }
    }
  } catch {
    // A ledger that cannot be read now adds nothing to what is wrong already.
  }
}

/** Adds to an error who removed what it names, where tidying did. */
async function tellRemoval(
  error: HodError,
  named: readonly RegExpMatchArray[],
  ledger: Pick<Ledger, 'read'>,
): Promise<void> {
  const manifests = named.slice(0, mostDigests).flatMap(([, name, digest = '']) => {
    const repository = repositoryNameSchema.safeParse(name).data;
    return repository !== undefined && isDigest(digest) ? [{ repository, digest }] : [];
  });
  const tagged = await taggedIn(error, ledger);
  manifests.push(...tagged);
  const { facts } = await ledger.read(factsOfRemovals(manifests), 'known');
  const [removal] = manifests.flatMap(({ repository, digest }) => removalOf(facts, repository, digest) ?? []);
  if (removal !== undefined && error.code !== 'content-removed') {
    error.problem.why = [...[error.problem.why ?? []].flat(), removalText(removal)];
  }
}

/** What the tag led to that an error says is missing, where tidying removed it. */
async function taggedIn(error: HodError, ledger: Pick<Ledger, 'read'>): Promise<ManifestPlace[]> {
  if (error.code !== 'image-missing' || error.problem.object === undefined) {
    return [];
  }
  const { repository, tag } = parseReference(joinLines(error.problem.object));
  if (tag === undefined) {
    return [];
  }
  const name = formatRepository(repository);
  const key = { kind: 'tag', key: tagKey(name, tag) } as const;
  const fact = (await ledger.read([key], 'known')).facts.get(key.kind, key.key);
  return fact?.tidied === true ? [{ repository: name, digest: fact.digest }] : [];
}

function holderText({ component, releases: [latest], count }: Identity['components'][number]): string {
  const others = count > 1 ? ` and ${count - 1} other release${count > 2 ? 's' : ''}` : '';
  return `${component} ${latest === undefined ? 'of a release' : describePosition(latest)}${others}`;
}
