import { HodError } from '../core/errors';
import type { Digest } from '../core/oci/digest';
import { formatRepository, type RepositoryName } from '../core/oci/reference';
import { moveRemedy } from '../core/release/gates/way-in';
import { stayIn } from '../core/ledger/environment';
import { referrersKey, tagKey, type Fact, type FactKey, type Facts, type ServedComponent } from '../core/ledger/facts';
import {
  referrerFinding,
  contentFinding,
  proveByRules,
  tagFinding,
  type Finding,
  type Note,
  type Proven,
  type RulesProof,
} from '../core/insight/proof';
import { contentId } from '../core/ledger/release';
import type { ServedLine } from '../core/insight/lines';
import { recordArtifact, recordOf, recordType } from '../core/ledger/release-record';
import type { Tag } from '../core/oci/tag';
import { timestampOf } from '../core/time';
import { settleAll } from '../system/promises';
import {
  signedText,
  signedTexts,
  signOffNamespace,
  type SignedOff,
  type Signer,
  type SignOff,
} from '../core/release/gates/sign-offs';
import type { ProductRules } from '../core/ledger/rules';
import { readCheckoutRules } from '../workspace/checkout-rules';
import { readSigner } from '../workspace/ssh-signature';
import { commitOrders } from '../delivery/orders';
import { placesIn } from '../delivery/places';
import { readWatchedTags } from '../delivery/watched-tags';
import { checkContent, type CheckedContent } from './content';
import type { Ledger } from '../ledger/ledger';
import { readServing } from './lines';
import type { RepositoryClient } from '../registry/repository';
import type { Session } from '../session/session';
import { environmentNamed, type Config, type EnvironmentConfig } from '../workspace/config';

/** What a proof reads from. */
export interface ProofContext {
  readonly config: Config;
  readonly session: Session;
  readonly ledger: Ledger;
  /** Read and hash every byte. */
  readonly deep: boolean;
}

/** What a proof of one environment read, and its findings. */
export interface Proof {
  readonly environment: string;
  readonly components: readonly ServedComponent[];
  /** What it serves on lines and followed branches, beside that. */
  readonly lines: readonly ServedLine[];
  /** `bytes`: those that were read of blobs. */
  readonly looked: Readonly<Record<'manifests' | 'blobs' | 'bytes' | 'tags' | 'referrers', number>>;
  readonly findings: readonly Finding[];
  readonly notes: readonly Note[];
}

/** Proves that an environment serves what was published and tested, on its lines too; otherwise returns findings. */
export async function proveEnvironment(environment: EnvironmentConfig, context: ProofContext): Promise<Proof> {
  const { ledger } = context;
  const { name, after } = environment;
  const [serving] = (await readServing([name], ledger)).serving;
  const { components: main, lines } = serving ?? { components: [], lines: [] };
  const served = [...main, ...lines.map(({ head }) => head)];
  const ids = [...new Set(served.map(({ release }) => release))];
  const released = (await ledger.read(ids.map((key): FactKey => ({ kind: 'release', key })))).facts;
  const components = served.map((each): Proven => {
    const release = released.get('release', each.release);
    if (release === undefined) {
      throw new HodError('ledger-corrupt', {
        what: 'the ledger contradicts itself',
        object: `the release ${each.release}`,
        why: `${name} serves it, and it was never published`,
        next: '`hod ledger verify` says more; restore the ledger before going on',
      });
    }
    return { served: each, release, environment: name, before: environment.before };
  });
  const proofs = await settleAll(components.map((each) => proveComponent(each, environment, context)));
  const [tags, tagsBefore, evidence] = await Promise.all([
    proveTags(environment, context),
    proveTagsBefore(served, after, context),
    lookForEvidence(components, context),
  ]);
  const sum = (of: 'manifests' | 'blobs' | 'bytes' | 'referrers'): number =>
    proofs.reduce((all, { looked }) => all + looked[of], 0);
  return {
    environment: name,
    components: main,
    lines,
    looked: {
      manifests: sum('manifests'),
      blobs: sum('blobs'),
      bytes: sum('bytes'),
      tags: tags.count + tagsBefore.count,
      referrers: sum('referrers'),
    },
    findings: [
      ...proofs.flatMap(({ findings }) => findings),
      ...tags.findings,
      ...tagsBefore.findings,
      ...evidence.findings,
    ],
    notes: evidence.notes,
  };
}

/** Evidence is about releases: what several components of one release lack is one finding. */
async function lookForEvidence(components: readonly Proven[], { config, ledger }: ProofContext): Promise<RulesProof> {
  const keys = components.flatMap(({ release, environment, served }): FactKey[] => {
    const rules = stayIn(release, environment, served.component)?.rules;
    return [
      { kind: 'evidence', key: contentId(release.components) },
      ...(rules === undefined ? [] : [{ kind: 'rules' as const, key: rules }]),
    ];
  });
  const { facts } = await ledger.read(keys);
  const now = timestampOf(new Date());
  const { product } = config;
  const { rules: today } = await readCheckoutRules(config, undefined);
  const all = await settleAll(
    components.map(async (each) => {
      const content = contentId(each.release.components);
      const evidence = facts.get('evidence', content);
      const { environment } = each;
      const then = stayIn(each.release, environment, each.served.component)?.rules;
      const known = [today, ...(then === undefined ? [] : [facts.get('rules', then)])];
      const signers = await readSigners({ product, environment, content }, evidence, known);
      return proveByRules(each, { facts, evidence, now, product, today, signerOf: signers });
    }),
  );
  return {
    findings: once(
      all.flatMap((each) => each.findings),
      ({ component, object, detail }) => [component, object, detail],
    ),
    notes: once(
      all.flatMap((each) => each.notes),
      ({ object, detail }) => [object, detail],
    ),
  };
}

/** Checks the signatures under sign-offs about some content, by the people whom rules trust. */
async function readSigners(
  about: Omit<SignedOff, 'rules'>,
  evidence: Fact<'evidence'> | undefined,
  rules: readonly (ProductRules | undefined)[],
): Promise<(signOff: SignOff, rules: ProductRules | undefined) => Signer | undefined> {
  const texts = rules.flatMap((each) => signedTexts(about, evidence, each?.trust));
  const known = new Map(
    await settleAll(
      texts.map(async (each) => [JSON.stringify(each), await readSigner(each, signOffNamespace)] as const),
    ),
  );
  return (signOff, by) => {
    const [text] = signedText(signOff, about, by?.trust);
    return text && known.get(JSON.stringify(text));
  };
}

function once<T>(all: readonly T[], partsOf: (one: T) => readonly string[]): T[] {
  return [...new Map(all.map((each) => [partsOf(each).join(' '), each])).values()];
}

interface ComponentProof {
  readonly looked: Omit<Proof['looked'], 'tags'>;
  readonly findings: readonly Finding[];
}

async function proveComponent(
  proven: Proven,
  environment: EnvironmentConfig,
  context: ProofContext,
): Promise<ComponentProof> {
  const { served } = proven;
  const { session, deep } = context;
  const { repository } = served;
  const own = environment.repositoryOf(served.component);
  if (formatRepository(own) !== repository) {
    throw new HodError('repository-changed', {
      what: 'it cannot be proved what is served there',
      object: `${served.component} in ${environment.name}`,
      why: `the ledger says that it is in ${repository}, and hod.yaml names ${formatRepository(own)}`,
      next: `name the former repository in hod.yaml; ${moveRemedy(environment.name, environment.before[0] ?? null)}`,
    });
  }
  const client = session.client(own);
  const content = await checkContent(client, served, { deep });
  const referrers = await proveReferrers(proven, environment, { client, content, context });
  const lost = new Map([...content.lost, ...referrers.lost].map((each) => [each.digest, each]));
  return {
    looked: {
      manifests: content.manifests.length,
      blobs: content.blobs.length,
      bytes: deep ? content.blobs.reduce((sum, { size }) => sum + size, 0) : 0,
      referrers: referrers.count,
    },
    findings: [...[...lost.values()].map((each) => contentFinding(proven, each)), ...referrers.findings],
  };
}

/** The tags of an environment that stand elsewhere than the ledger says, as findings; and how many were looked at. */
async function proveTags(
  environment: EnvironmentConfig,
  { config, session, ledger }: ProofContext,
): Promise<{ count: number; findings: Finding[] }> {
  const { name } = environment;
  const places = await placesIn(config, environment, { ledger, session });
  const { count, stray, lost } = await readWatchedTags(name, places, { ledger, orders: commitOrders(config.folder) });
  return { count, findings: [...stray, ...lost].map((each) => tagFinding(name, each)) };
}

/** The fixed tags of served releases in the environment before, where somebody gave them to something else. */
async function proveTagsBefore(
  served: readonly ServedComponent[],
  from: string | undefined,
  { config, session, ledger }: ProofContext,
): Promise<{ count: number; findings: Finding[] }> {
  if (from === undefined) {
    return { count: 0, findings: [] };
  }
  const before = environmentNamed(config, from);
  const places = served.flatMap(({ component, tags }) => {
    const client = session.client(before.repositoryOf(component));
    return tags.map((tag) => ({ component, repository: client.label, tag, client }));
  });
  const keyOf = ({ repository, tag }: (typeof places)[number]): string => tagKey(repository, tag);
  const { facts } = await ledger.read(places.map((place): FactKey => ({ kind: 'tag', key: keyOf(place) })));
  const fixed = places.flatMap((place) => {
    const fact = facts.get('tag', keyOf(place));
    // The moving tags of the environment before are proved with that environment.
    return fact?.kind === 'fixed' ? [{ ...place, digest: fact.digest }] : [];
  });
  const findings = await settleAll(
    fixed.map(async ({ client, ...place }) => {
      const found = await client.manifests.resolve(place.tag, place.digest);
      const decision = { ...place, kind: 'fixed', outcome: 'restored', reason: '', served: found } as const;
      return found === place.digest ? [] : [tagFinding(before.name, decision)];
    }),
  );
  return { count: fixed.length, findings: findings.flat() };
}

/** Checks that the referrers that the ledger knows of a component are there, and whole; its release record among them. */
async function proveReferrers(
  proven: Proven,
  { carrying, name: environmentName }: EnvironmentConfig,
  { client, content, context }: { client: RepositoryClient; content: CheckedContent; context: ProofContext },
): Promise<{ count: number; findings: Finding[]; lost: CheckedContent['lost'] }> {
  const { label } = client;
  const root = content.manifests.find(({ digest }) => digest === proven.served.digest);
  // What was served before the ledger began came without a record.
  const isAdopted = stayIn(proven.release, environmentName, proven.served.component)?.adopted === true;
  const record =
    root === undefined || carrying === 'none' || isAdopted
      ? undefined
      : recordArtifact(recordOf(context.config.product, proven.release), root).manifest.digest;
  const subjects = content.manifests.map(({ digest }) => digest);
  const expected = await expectedReferrers(subjects, record, label, context.ledger);
  if (record !== undefined && root !== undefined && !expected.some(({ digest }) => digest === record)) {
    expected.push({ subject: root.digest, digest: record, type: recordType });
  }
  const lists = new Map(
    await settleAll(
      [...new Set(expected.map(({ subject }) => subject))].map(
        async (subject) => [subject, await client.referrersOf(subject)] as const,
      ),
    ),
  );
  const findings: Finding[] = [];
  const lost: CheckedContent['lost'][number][] = [];
  await settleAll(
    expected.map(async ({ subject, digest, type, tag }) => {
      // The tag may point to a newer list, which holds this referrer too.
      const found = lists
        .get(subject)
        ?.find((each) => (tag === undefined ? each.descriptor.digest === digest : each.tag === tag));
      if (found === undefined) {
        findings.push(referrerFinding(proven, { repository: label, subject, digest, type }));
      } else {
        lost.push(...(await checkContent(client, found.descriptor, context)).lost);
      }
    }),
  );
  return { count: expected.length, findings, lost };
}

/** A referrer that the ledger knows. */
interface ExpectedReferrer {
  readonly subject: Digest;
  readonly digest: Digest;
  readonly type: string;
  readonly tag?: Tag | undefined;
}

/** The referrers of manifests that the ledger knows, and the referrers of those. */
async function expectedReferrers(
  manifests: readonly Digest[],
  record: Digest | undefined,
  repository: RepositoryName,
  ledger: Ledger,
): Promise<ExpectedReferrer[]> {
  const expected: ExpectedReferrer[] = [];
  const asked = new Set<Digest>();
  for (let subjects = manifests; subjects.length > 0;) {
    subjects.forEach((each) => asked.add(each));
    const { facts } = await ledger.read(
      subjects.map((each): FactKey => ({ kind: 'referrers', key: referrersKey(repository, each) })),
    );
    const found = subjects.flatMap((subject) => known(facts, repository, subject, record));
    expected.push(...found);
    subjects = found.map(({ digest }) => digest).filter((digest) => !asked.has(digest));
  }
  return expected;
}

function known(
  facts: Facts,
  repository: RepositoryName,
  subject: Digest,
  record: Digest | undefined,
): ExpectedReferrer[] {
  const all = facts.get('referrers', referrersKey(repository, subject)) ?? [];
  // A component may be in many releases: only the record of this one matters.
  return all
    .filter(({ type, digest }) => type !== recordType || digest === record)
    .map((each) => ({ subject, ...each }));
}
