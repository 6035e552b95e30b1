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
import type { SignedProof, SignedStep } from '../core/insight/signed-proof';
import { contentId } from '../core/ledger/release';
import type { ServedLine } from '../core/insight/lines';
import { isRecordType, recordArtifact } from '../core/ledger/release-record';
import { typeOf } from '../core/oci/referrers';
import type { Tag } from '../core/oci/tag';
import { readContent } from '../core/oci/content';
import { signatureUnder, type DocumentSignature } from '../core/release/gates/attested';
import { trustsNobody, type TrustRules } from '../core/trust/trust-rules';
import { readSignedDocuments } from '../delivery/referrers/documents';
import type { Referrer } from '../delivery/referrers/find';
import { timestampOf, type Timestamp } from '../core/time';
import { settleAll } from '../system/promises';
import type { Signer } from '../core/trust/signed-text';
import { signedText, signedTexts, type SignedOff, type SignOff } from '../core/release/gates/sign-offs';
import { admissionRulesIn, type ProductRules } from '../core/ledger/rules';
import { readCheckoutRules } from '../workspace/checkout-rules';
import { readSigner } from '../workspace/ssh-signature';
import { commitOrders } from '../delivery/orders';
import { placesIn } from '../delivery/places';
import { readWatchedTags } from '../delivery/watched-tags';
import { checkContent, type CheckedContent } from './content';
import type { Ledger } from '../ledger/ledger';
import { readServing } from './lines';
import { proveBySignatures } from './signatures';
import { readStatements, type ServedStatements } from './statements';
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
  /** Whom hod.yaml trusts; undefined where it does not say. */
  readonly trust: TrustRules | undefined;
}

/** What a proof of one environment read, and its findings. */
export interface Proof {
  readonly environment: string;
  readonly components: readonly ServedComponent[];
  /** What it serves on lines and followed branches, beside that. */
  readonly lines: readonly ServedLine[];
  /** `bytes`: those that were read of blobs. */
  readonly looked: Readonly<Record<'manifests' | 'blobs' | 'bytes' | 'tags' | 'referrers', number>>;
  /** Who signed the documents that refer to what is served; none where hod.yaml trusts nobody. */
  readonly statements: readonly ProvenStatement[];
  /** Who signed the entries by which releases came; none where hod.yaml does not sign. */
  readonly signed: readonly SignedStep[];
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
  const [tags, tagsBefore, evidence, signatures] = await Promise.all([
    proveTags(environment, context),
    proveTagsBefore(served, after, context),
    lookForEvidence(components, context),
    lookForSignatures(components, context),
  ]);
  return {
    environment: name,
    components: main,
    lines,
    looked: { ...lookedAt(proofs), tags: tags.count + tagsBefore.count },
    findings: [
      ...proofs.flatMap(({ findings }) => findings),
      ...tags.findings,
      ...tagsBefore.findings,
      ...evidence.findings,
      ...signatures.findings,
    ],
    statements: proofs.flatMap(({ statements }) => statements),
    signed: signatures.steps,
    notes: [...evidence.notes, ...signatures.notes],
  };
}

function lookedAt(proofs: readonly ComponentProof[]): ComponentProof['looked'] {
  const sum = (of: keyof ComponentProof['looked']): number => proofs.reduce((all, { looked }) => all + looked[of], 0);
  return { manifests: sum('manifests'), blobs: sum('blobs'), bytes: sum('bytes'), referrers: sum('referrers') };
}

/** Who signed what is about releases, too. */
async function lookForSignatures(
  components: readonly Proven[],
  { config, ledger, trust }: ProofContext,
): Promise<SignedProof> {
  if (config.sign === undefined) {
    return { steps: [], findings: [], notes: [] };
  }
  const about = { product: config.product, trust: trust ?? trustsNobody, ledger };
  const all = await proveBySignatures(components, about);
  return {
    steps: once(
      all.flatMap(({ steps }) => steps),
      ({ object, entry }) => [object, String(entry)],
    ),
    findings: once(
      all.flatMap(({ findings }) => findings),
      ({ object, detail }) => [object, detail],
    ),
    notes: once(
      all.flatMap(({ notes }) => notes),
      ({ object, detail }) => [object, detail],
    ),
  };
}

/** Evidence is about releases: what several components of one release lack is one finding. */
async function lookForEvidence(components: readonly Proven[], context: ProofContext): Promise<RulesProof> {
  const { config, ledger } = context;
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
      const isAsked = known.some((rules) => rules && admissionRulesIn(rules, environment).attested !== undefined);
      const statements = isAsked ? await statementsAbout(each, context) : undefined;
      return proveByRules(each, { facts, evidence, statements, now, product, today, signerOf: signers });
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

/** Reads the signed documents about what is served: there, and in the environment before where some are not carried. */
async function statementsAbout(
  { served, environment, before }: Proven,
  { config, session, ledger }: ProofContext,
): Promise<ServedStatements | undefined> {
  const at = (name: string): RepositoryClient =>
    session.client(environmentNamed(config, name).repositoryOf(served.component));
  const [nearest] = environmentNamed(config, environment).carrying === 'all' ? [] : before;
  try {
    return await readStatements(served, [at(environment), ...(nearest === undefined ? [] : [at(nearest)])], ledger);
  } catch (error) {
    // Content that is gone or changed is a finding of its own.
    if (error instanceof HodError && ['missing', 'corrupt'].includes(error.fault)) {
      return undefined;
    }
    throw error;
  }
}

/** Checks the signatures under sign-offs about some content, by the people whom rules trust. */
async function readSigners(
  about: Omit<SignedOff, 'rules'>,
  evidence: Fact<'evidence'> | undefined,
  rules: readonly (ProductRules | undefined)[],
): Promise<(signOff: SignOff, rules: ProductRules | undefined) => Signer | undefined> {
  const texts = rules.flatMap((each) => signedTexts(about, evidence, each?.trust));
  const known = new Map(
    await settleAll(texts.map(async (each) => [JSON.stringify(each), await readSigner(each)] as const)),
  );
  return (signOff, by) => {
    const [text] = signedText(signOff, about, by?.trust);
    return text && known.get(JSON.stringify(text));
  };
}

function once<T>(all: readonly T[], partsOf: (one: T) => readonly string[]): T[] {
  return [...new Map(all.map((each) => [partsOf(each).join(' '), each])).values()];
}

/** A signed document in a referrer of a component, and who signed it. */
export interface ProvenStatement extends DocumentSignature {
  readonly component: string;
  readonly referrer: Digest;
}

interface ComponentProof {
  readonly statements: readonly ProvenStatement[];
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
    statements: referrers.statements,
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
): Promise<{ count: number; findings: Finding[]; lost: CheckedContent['lost']; statements: ProvenStatement[] }> {
  const { label } = client;
  const root = content.manifests.find(({ digest }) => digest === proven.served.digest);
  // What was served before the ledger began came without a record.
  const isAdopted = stayIn(proven.release, environmentName, proven.served.component)?.adopted === true;
  const record =
    root === undefined || carrying === 'none' || isAdopted
      ? undefined
      : recordArtifact(context.config.product, proven.release, root).manifest;
  const subjects = content.manifests.map(({ digest }) => digest);
  const expected = await expectedReferrers(subjects, record?.digest, label, context.ledger);
  if (record !== undefined && root !== undefined && !expected.some(({ digest }) => digest === record.digest)) {
    expected.push({ subject: root.digest, digest: record.digest, type: typeOf(record) });
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
  const statements: ProvenStatement[] = [];
  await settleAll(
    expected.map(async ({ subject, digest, type, tag, at }) => {
      // The tag may point to a newer list, which holds this referrer too.
      const found = lists
        .get(subject)
        ?.find((each) => (tag === undefined ? each.descriptor.digest === digest : each.tag === tag));
      if (found === undefined) {
        findings.push(referrerFinding(proven, { repository: label, subject, digest, type }));
      } else {
        const missing = (await checkContent(client, found.descriptor, context)).lost;
        lost.push(...missing);
        const referrer = { subject, digest, type, read: () => readContent(client, found.descriptor) };
        statements.push(...(missing.length > 0 ? [] : await signaturesOn(referrer, at, proven, context)));
      }
    }),
  );
  return { count: expected.length, findings, lost, statements };
}

/** Who signed the documents in a referrer; the keys must have counted when the ledger learnt of it. */
async function signaturesOn(
  referrer: Referrer,
  knownSince: Timestamp | undefined,
  { served: { component } }: Proven,
  { trust }: ProofContext,
): Promise<ProvenStatement[]> {
  if (trust === undefined) {
    return [];
  }
  const at = knownSince ?? timestampOf(new Date());
  const documents = await readSignedDocuments([referrer]);
  return documents.map((each) => {
    return { component, referrer: referrer.digest, ...signatureUnder(each, referrer.subject, trust, at) };
  });
}

/** A referrer that the ledger knows. */
interface ExpectedReferrer {
  readonly subject: Digest;
  readonly digest: Digest;
  readonly type: string;
  readonly tag?: Tag | undefined;
  /** When the ledger first knew of it. */
  readonly at?: Timestamp | undefined;
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
    .filter(({ type, digest }) => !isRecordType(type) || digest === record)
    .map((each) => ({ subject, ...each }));
}
