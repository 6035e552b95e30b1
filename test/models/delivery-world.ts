import { trustsNobody } from '../../src/core/trust/trust-rules';
import type { KeepRules } from '../../src/core/tidy/keep';
import { tidyUp, type Tidied } from '../../src/tidying/tidy';
import type { RepositoryTarget, RepositoryToTidy } from '../../src/registry/ports';
import { ok } from 'node:assert';
import { commitSchema, type CommitId } from '../../src/core/commit';
import { imagesByPlatform, readContent, type ContentNode } from '../../src/core/oci/content';
import { isDigest, sha256, type Digest } from '../../src/core/oci/digest';
import { describeManifest, parseManifest, type Manifest } from '../../src/core/oci/manifest';
import { mediaTypes } from '../../src/core/oci/media-types';
import { formatRepository, parseRepository, type Repository } from '../../src/core/oci/reference';
import type { Build } from '../../src/core/build/build';
import { inSpiteOfNothing, type Despite } from '../../src/core/release/despite';
import { entryAfter, type SealedEntry } from '../../src/core/ledger/entry';
import { HodError } from '../../src/core/errors';
import { noAdmissionRules, type AdmissionRules } from '../../src/core/ledger/rules';
import type { Taking } from '../../src/core/release/gates/taking';
import { decideEvidence, type Evidence } from '../../src/core/release/evidence';
import type { Facts } from '../../src/core/ledger/facts';
import { chooseCandidates, type ReleaseChoice } from '../../src/core/release/promotion';
import type { VersionRequest } from '../../src/core/build/version-request';
import type { BackTo } from '../../src/core/release/rollback-plan';
import { followedBy, includedTagRule, type RulesOf, type TagRule } from '../../src/core/tags/rules';
import type { PublicationPlan } from '../../src/core/release/publication';
import type { Verdict } from '../../src/core/release/verdict';
import { parseTemplate } from '../../src/core/tags/template';
import { isTag, type Tag } from '../../src/core/oci/tag';
import type { Version } from '../../src/core/tags/version';
import { timestampOf } from '../../src/core/time';
import { deliver } from '../../src/delivery/deliver';
import { arriving, type DeliveryContext, type DeliveryItem } from '../../src/delivery/delivery';
import { checkFormerPlaces } from '../../src/delivery/write-rights';
import { Judge } from '../../src/delivery/judge';
import { promotionDelivery } from '../../src/delivery/promotion';
import { publicationDelivery } from '../../src/delivery/publication';
import type { FoundEnvironment } from '../../src/core/release/adoption';
import { recordAdoption } from '../../src/delivery/adoption/adopt';
import { restoreTags } from '../../src/delivery/restore';
import type { Place } from '../../src/delivery/places';
import { moveEnvironment } from '../../src/delivery/move';
import { rollBack } from '../../src/delivery/rollback';
import type { Remains } from '../../src/rebuild/found';
import { rollbacksIn } from '../../src/rebuild/remains';
import { isRecordType, readRecord, signatureOf } from '../../src/core/ledger/release-record';
import type { RecordSigner } from '../../src/core/trust/signer';
import { isOwnRecord, readRollbackRecord, rollbackType } from '../../src/core/ledger/rollback-record';
import { allBytes } from '../../src/core/bytes';
import type { Ledger } from '../../src/ledger/ledger';
import { MemoryLedger } from '../../src/ledger/memory';
import { silent } from '../../src/session/observer';

export const product = 'skerry-line';

/** A commit, its ancestors, the branch that builds it, and what its build is to be called. */
export interface Commit {
  id: CommitId;
  ancestors: ReadonlySet<string>;
  branch: string;
  version: VersionRequest;
  /** What its build holds of each image. */
  content: Readonly<Record<string, string>>;
  pullRequest?: boolean;
}

/** An environment of a {@link DeliveryWorld}. */
export interface WorldEnvironment {
  readonly rules: readonly TagRule[];
  readonly admissionRules: AdmissionRules;
}

/** The id of a made-up commit, by its place in a history. */
export function commitId(at: number): CommitId {
  return commitSchema.parse(at.toString(16).padStart(4, '0').padEnd(40, 'a'));
}

/** The tag rules of an environment. */
export function tagRules(environment: string, fixed: readonly string[], moving: readonly string[]): TagRule[] {
  return [
    ...fixed.map((text): TagRule => ({ kind: 'fixed', template: parseTemplate(text) })),
    ...moving.map((text): TagRule => {
      const template = parseTemplate(text);
      return { kind: 'moving', template, follows: followedBy(template, environment) };
    }),
  ];
}

/** The branches that the first environment of every world follows. */
export const followedBranches = ['main', 'support-*'] as const;
/** Every environment takes releases of the branches that the first one follows. */
export const taking: Taking = { branches: followedBranches, source: 'what dev follows', own: false, usual: false };

/** A component of every world that another product builds: it has no version and no moving tag. */
export const includedComponent = 'pay';

/** Whether a tag of these worlds is a fixed one. */
export const isFixed = (tag: string): boolean => /^c-|^included-|^\d+\.\d+\.\d+/.test(tag);

export class Killed extends Error {}

/** Somebody with a hod.yaml of their own, and the right to write to some registries alone. */
export interface Stranger {
  readonly name: string;
  /** The environment in whose registry their hod.yaml has an environment; its own where it is not named. */
  readonly places: Readonly<Record<string, string>>;
  readonly rights: readonly string[];
}

interface Registry {
  /** What fixed tags were written with first. */
  readonly fixed: Map<string, Digest>;
  readonly tags: Map<Tag, Digest>;
  readonly manifests: Map<Digest, Manifest>;
  /** The bytes of those that somebody reads again. */
  readonly blobs: Map<Digest, Uint8Array | undefined>;
}
const manner = { records: true, mend: false };

type Turn = () => Promise<unknown>;

type WorldContext = DeliveryContext & {
  product: string;
  step: () => Promise<void>;
  stranger: Stranger | undefined;
  /** Where hod.yaml has each environment when the run begins; under its own name where it is not named. */
  hosts: Map<string, string>;
};

/** Registries and a ledger that several people use at once; a scheduler decides whose turn it is. */
export class DeliveryWorld {
  private readonly memory = new MemoryLedger();
  private readonly registries = new Map<string, Registry>();
  private minutes = 0;
  /** Signs records and entries; nothing is signed where it is undefined. */
  signer: RecordSigner | undefined;
  /** What its registries remove by themselves. */
  removes: 'tags' | 'manifests' | 'both' = 'both';
  /** Where hod.yaml has each environment now. */
  private readonly hosts = new Map<string, string>();

  constructor(
    private readonly commits: readonly Commit[],
    private readonly environments: Readonly<Record<string, WorldEnvironment>>,
    private readonly turn: Turn,
    /** Whether the registries remove tags. */
    readonly removesTags = true,
  ) {}

  /** All entries of the ledger, and what they add up to. */
  get entries(): readonly SealedEntry[] {
    return this.memory.sealed;
  }

  get facts(): Facts {
    return this.memory.facts;
  }

  /** Publishes a build as the program does. Dies before its n-th step where `steps` is n. */
  async publish(
    commit: Commit,
    steps = Infinity,
    only = Object.keys(commit.content),
    { environment = 'dev', ...by }: { environment?: string; stranger?: Stranger; despite?: Despite } = {},
  ): Promise<Version | undefined> {
    return (await this.decidedBuild(commit, steps, only, { environment, ...by }))?.plan.versioning.version;
  }

  /** The same; answers what was decided. */
  async decidedBuild(
    commit: Commit,
    steps = Infinity,
    only = Object.keys(commit.content),
    { environment = 'dev', ...by }: { environment?: string; stranger?: Stranger; despite?: Despite } = {},
  ): Promise<Verdict<PublicationPlan> | undefined> {
    const { stranger, despite = inSpiteOfNothing } = by;
    const context = this.context(steps, stranger);
    await this.checkFormerPlaces(environment, despite, context);
    const items = only.map((component): DeliveryItem => {
      const node = nodeOf(commit.content[component] ?? '');
      return {
        component,
        node,
        platforms: ['linux/amd64'],
        target: this.target(environment, component, context),
        referrers: [],
      };
    });
    const { id, branch, version, pullRequest = false } = commit;
    const build: Build = {
      commit: id,
      branch,
      pullRequest,
      version,
      number: undefined,
      run: undefined,
      date: undefined,
      dirty: false,
      shallow: false,
    };
    const publication = {
      product,
      environment,
      from: null,
      rulesOf: this.rulesIn(environment),
      following: { branches: followedBranches, usual: false, branch, pullRequest, containing: [] },
      build,
      components: items.map(arriving),
      lists: Object.keys(commit.content),
      claims: [],
      strictOrder: false,
      despite,
      reception: undefined,
      checkout: undefined,
    };
    const { verdicts } = await deliver(publicationDelivery(publication, items, manner), context);
    return verdicts[0];
  }

  /** Promotes what the environment before serves, or a named release. */
  async promote(
    [from, to]: readonly [string, string],
    choice: ReleaseChoice = { servedBy: from, isFirst: from === 'dev' },
    steps = Infinity,
    despite: Despite = inSpiteOfNothing,
    stranger?: Stranger,
  ): Promise<void> {
    const context = this.context(steps, stranger);
    await this.checkFormerPlaces(to, despite, context);
    const judge = new Judge(context, []);
    const chosen = (await judge.decide((known) => chooseCandidates(choice, undefined, { from, to, taking }, known)))
      .value;
    const parts = await Promise.all(
      chosen.map(async ({ release, components }) => {
        const items = await Promise.all(
          components.map(async ({ component, platforms, ...placed }): Promise<DeliveryItem> => {
            const node = await readContent(this.target(from, component, context), placed);
            return { component, node, platforms, target: this.target(to, component, context), referrers: [] };
          }),
        );
        const entering = items.map((item) => {
          return {
            ...arriving(item),
            kind: 'image' as const,
            platforms: item.platforms,
            annotations: [],
            referrers: [],
            documents: [],
          };
        });
        return { release, items, components: entering, date: undefined, commitSigner: undefined };
      }),
    );
    // What a stranger's hod.yaml asks for is nothing.
    const admissionRules = stranger === undefined ? this.environment(to).admissionRules : noAdmissionRules;
    const promotion = {
      product,
      parts,
      from,
      environment: to,
      rulesOf: this.rulesIn(to),
      taking,
      admissionRules,
      trust: trustsNobody,
      placesBefore: () => [],
      now: this.now(),
      strictOrder: false,
      despite,
      checkout: undefined,
    };
    await deliver(
      promotionDelivery(
        promotion,
        parts.flatMap(({ items }) => items),
        manner,
      ),
      context,
    );
  }

  /** Rolls an environment back, or one lane of it. */
  async rollback(
    environment: string,
    reason: string,
    { to, lane, steps = Infinity, stranger }: { to?: BackTo; lane?: string; steps?: number; stranger?: Stranger } = {},
  ): Promise<void> {
    const context = this.context(steps, stranger);
    const places = this.placesIn(environment, context);
    const names = Object.keys(this.environments);
    const before = names.slice(0, names.indexOf(environment)).reverse();
    await rollBack({ environment, before, to, lane, reason, records: true }, places, context);
  }

  /** Records what environments serve, and decides as {@link recordAdoption} does. */
  async adopt(found: readonly FoundEnvironment[], anew = false): Promise<void> {
    const lists = [...new Set(this.commits.flatMap(({ content }) => Object.keys(content)))];
    const adoption = { product, environments: found, lists, reason: 'from before', anew };
    await recordAdoption(adoption, this.context(Infinity));
  }

  /** Puts tags right that stand elsewhere than the ledger says. */
  async restore(environment: string, steps = Infinity): Promise<void> {
    const context = this.context(steps);
    await restoreTags(environment, this.placesIn(environment, context), context);
  }

  /** Returns the host that an environment would move to. */
  otherHost(environment: string): string {
    return this.hostOf(environment) === environment ? `${environment}2` : environment;
  }

  /** Moves an environment to another host, with what it serves and what rollbacks need. */
  async move(environment: string, host: string, steps = Infinity): Promise<void> {
    const context = this.context(steps);
    context.hosts.set(environment, host);
    await this.checkFormerPlaces(environment, { ...inSpiteOfNothing, newWayIn: true, reason: 'moved' }, context);
    const moving = {
      ...{ environment, product, reason: 'moved', copies: true, carrying: 'all' as const },
      placeOf: (component: string) => this.target(environment, component, context).label,
      places: this.placesIn(environment, context),
      sourcesOf: (component: string, former: readonly string[]) =>
        former.map((each) => {
          const { registry } = parseRepository(each);
          return this.target(registry.replace('.test', ''), component, { ...context, at: registry });
        }),
    };
    try {
      await moveEnvironment(moving, context);
    } finally {
      // Also where it could not remove a tag: what is recorded counts.
      const [place] = this.facts.get('environment', environment)?.places ?? [];
      if (place?.repository.startsWith(`${host}.test/`) === true) {
        this.hosts.set(environment, host);
      }
    }
  }

  /** Removes what environments may lose, as they keep it. */
  async tidy(keep: Readonly<Record<string, KeepRules | undefined>>, limit?: number, steps = Infinity): Promise<Tidied> {
    const context = this.context(steps);
    const names = Object.keys(this.environments);
    const question = {
      environments: names.map((name, at) => ({
        ...{ name, keep: keep[name], before: names.slice(0, at).reverse() },
        follows: name === 'dev' ? followedBranches : undefined,
        repositoryOf: (component: string) => parseRepository(`${this.hostOf(name)}.test/skerry/${component}`),
      })),
      chosen: names,
      components: [...new Set(this.commits.flatMap(({ content }) => Object.keys(content)))],
      versions: false,
      unknown: undefined,
    };
    const client = ({ registry, name }: Repository) =>
      this.tidyTarget(registry.replace('.test', ''), name.replace('skerry/', ''), context);
    return tidyUp(question, { limit, pause: () => Promise.resolve() }, { ...context, client });
  }

  /** Every manifest in the registry of an image in an environment. */
  manifestsOf(environment: string, component: string): ReadonlyMap<Digest, Manifest> {
    return this.registry(this.hostOf(environment), component).manifests;
  }

  /** Lets an environment have the repositories of another. */
  share(environment: string, other: string): void {
    this.hosts.set(environment, other);
  }

  /** Moves a tag by hand, or removes it. */
  tamper(environment: string, component: string, tag: Tag, digest: Digest | undefined): void {
    const { tags, manifests } = this.registry(this.hostOf(environment), component);
    if (digest === undefined || !manifests.has(digest)) {
      tags.delete(tag);
    } else {
      tags.set(tag, digest);
    }
  }

  private placesIn(environment: string, context: WorldContext): Place[] {
    const components = [...new Set(this.commits.flatMap(({ content }) => Object.keys(content)))];
    return components.map((component) => ({ component, target: this.target(environment, component, context) }));
  }

  /** Records evidence. */
  async record(evidence: Omit<Evidence, 'by'>, by: string): Promise<void> {
    const context = this.context(Infinity);
    const judge = new Judge(context, []);
    for (;;) {
      const { value, head } = await judge.decide((known) => decideEvidence({ ...evidence, by }, known));
      const [action] = value.actions;
      const entry = action && entryAfter(head, { product, at: this.now(), actor: by, action });
      if (entry === undefined || (await context.ledger.append([entry], head)) !== undefined) {
        return;
      }
    }
  }

  digestOf(commit: Commit, component: string): Digest {
    return nodeOf(commit.content[component] ?? '').manifest.digest;
  }

  /** What a tag leads to. */
  at(tag: string, environment = 'dev', component = 'timetable'): Digest | undefined {
    return isTag(tag) ? this.tagsOf(environment, component).get(tag) : undefined;
  }

  /** Every tag of an image in an environment. */
  tagsOf(environment: string, component: string): Map<Tag, Digest> {
    return this.registry(this.hostOf(environment), component).tags;
  }

  /** The same registries with another ledger, which goes its own way from here. */
  fork(entries: readonly SealedEntry[]): DeliveryWorld {
    const fork = new DeliveryWorld(this.commits, this.environments, this.turn, this.removesTags);
    this.registries.forEach(({ tags, fixed, manifests, blobs }, key) => {
      fork.registries.set(key, {
        tags: new Map(tags),
        fixed: new Map(fixed),
        manifests: new Map(manifests),
        blobs: new Map(blobs),
      });
    });
    for (const sealed of entries) {
      fork.memory.add(sealed);
    }
    fork.minutes = this.minutes;
    fork.signer = this.signer;
    return fork;
  }

  /** What is left of the ledger in the registries. */
  remains(): Remains {
    const found = [...this.registries].flatMap(([key, { manifests, blobs }]) => {
      const [environment = '', component = ''] = key.split(' ');
      return [...manifests.values()].flatMap((manifest) => {
        const bytes =
          manifest.kind === 'image' && isRecordType(manifest.artifactType)
            ? blobs.get(manifest.config.digest)
            : undefined;
        const read = bytes === undefined ? undefined : readRecord(bytes);
        const record = read?.record;
        const placed = record?.components.find(
          (each) => each.component === component && each.digest === manifest.subject?.digest,
        );
        return read === undefined || record === undefined || placed === undefined
          ? []
          : [{ environment, record, placed, signature: signatureOf(read) }];
      });
    });
    const repositoryOf = (environment: string, component: string) =>
      formatRepository(parseRepository(`${environment}.test/skerry/${component}`));
    return {
      product,
      environments: Object.keys(this.environments).map((name, at, all) => {
        return { name, before: all.slice(0, at).reverse(), rulesOf: this.rulesIn(name) };
      }),
      releases: new Map(found.map(({ record }) => [record.release, record])),
      signatures: new Map(
        found.flatMap(({ record, signature }) =>
          signature === undefined ? [] : [[record.release, signature] as const],
        ),
      ),
      arrivals: new Map(
        Object.keys(this.environments).map((name) => {
          const here = found.filter(({ environment }) => environment === name);
          return [
            name,
            [...new Set(here.map(({ record }) => record.release))].map((release) => ({
              release,
              components: here
                .filter(({ record }) => record.release === release)
                .map(({ placed }) => ({ ...placed, repository: repositoryOf(name, placed.component) })),
              referrers: [],
              imagesOf: (component: string) => {
                const placed = here.find(
                  (each) => each.record.release === release && each.placed.component === component,
                );
                const manifest = placed && this.registry(name, component).manifests.get(placed.placed.digest);
                const images = manifest === undefined ? [] : imagesByPlatform(manifest, ['linux/amd64']);
                return images.map((image) => ({ component, ...image }));
              },
            })),
          ];
        }),
      ),
      rollbacks: rollbacksIn(
        { environments: Object.keys(this.environments).map((name) => ({ name })) },
        [...this.registries].map(([key, { manifests, blobs }]) => {
          const documents = [...manifests.values()].flatMap((manifest) =>
            manifest.kind === 'image' && manifest.artifactType === rollbackType
              ? (blobs.get(manifest.config.digest) ?? [])
              : [],
          );
          const rollbacks = documents.flatMap((bytes) => readRollbackRecord(bytes) ?? []);
          return { environment: key.split(' ')[0] ?? '', rollbacks };
        }),
      ),
      served: (repository, tag) => {
        const { registry, name } = parseRepository(repository);
        return this.registry(registry.replace('.test', ''), name.replace('skerry/', '')).tags.get(tag);
      },
      following: async ({ branch, pullRequest = false }) => ({
        branches: followedBranches,
        usual: false,
        branch,
        pullRequest,
        containing: [],
      }),
      dayOf: async () => undefined,
      orders: this.context(Infinity).orders,
      actor: 'rebuilt',
      now: this.now(),
      serves: new Map(),
    };
  }

  private async checkFormerPlaces(environment: string, despite: Despite, context: WorldContext): Promise<void> {
    const repositoryOf = (component: string) => this.target(environment, component, context).label;
    const clientOf = ({ registry, name }: Repository) =>
      this.target(registry.replace('.test', ''), name.replace('skerry/', ''), { ...context, at: registry });
    await checkFormerPlaces({ environment, repositoryOf }, despite, { ledger: context.ledger, clientOf });
  }

  private environment(name: string): WorldEnvironment {
    const found = this.environments[name];
    if (found === undefined) {
      throw new Error(`there is no environment ${name}`);
    }
    return found;
  }

  private rulesIn(environment: string): RulesOf {
    const { rules } = this.environment(environment);
    return (component) => (component === includedComponent ? [includedTagRule] : rules);
  }

  private now() {
    this.minutes += 1;
    return timestampOf(new Date(Date.UTC(2026, 0, 5, 0, this.minutes)));
  }

  /** Puts content into a registry that nobody released, as what belongs to something else may come along. */
  smuggle(environment: string, component: string, content: string): Digest {
    const { manifest } = nodeOf(content);
    this.registry(environment, component).manifests.set(manifest.digest, manifest);
    return manifest.digest;
  }

  private context(steps: number, stranger?: Stranger): WorldContext {
    let left = steps;
    const step = async (): Promise<void> => {
      await this.turn();
      left -= 1;
      if (left < 0) {
        throw new Killed();
      }
    };
    return {
      product,
      step,
      ledger: this.ledger(step),
      orders: {
        around: async () => {
          await step();
          return { contains: (older, newer) => this.contains(older, newer), gap: '' };
        },
        highest: () => Promise.resolve(undefined),
      },
      observer: silent,
      stranger,
      hosts: new Map(this.hosts),
      actor: { name: stranger?.name ?? 'una', proven: false, signer: this.signer },
      dryRun: false,
    };
  }

  private contains(older: string, newer: string): boolean | undefined {
    return older === newer || this.commits.find(({ id }) => id === newer)?.ancestors.has(older);
  }

  private hostOf(environment: string): string {
    return this.hosts.get(environment) ?? environment;
  }

  private registry(environment: string, component: string): Registry {
    const key = `${environment} ${component}`;
    const known = this.registries.get(key) ?? {
      tags: new Map(),
      fixed: new Map(),
      manifests: new Map(),
      blobs: new Map(),
    };
    this.registries.set(key, known);
    return known;
  }

  /** @param at The registry itself, whatever a hod.yaml says. */
  private target(
    name: string,
    component: string,
    { step, stranger, hosts, at }: WorldContext & { readonly at?: string },
  ): RepositoryTarget {
    const environment = at === undefined ? (stranger?.places[name] ?? hosts.get(name) ?? name) : name;
    const { tags, fixed, manifests, blobs } = this.registry(environment, component);
    const repository = parseRepository(`${environment}.test/skerry/${component}`);
    const write = async (): Promise<void> => {
      await step();
      if (stranger?.rights.includes(environment) === false) {
        const problem = { what: 'this may not be written', object: environment, why: 'no right', next: 'ask for it' };
        throw new HodError('no-right', problem);
      }
    };
    const resolve = async (reference: Tag | Digest): Promise<Digest | undefined> => {
      await step();
      return isDigest(reference) ? manifests.get(reference)?.digest : tags.get(reference);
    };
    const put = async (reference: Tag | Digest, manifest: Manifest): Promise<void> => {
      await write();
      manifests.set(manifest.digest, manifest);
      if (!isDigest(reference)) {
        // A fixed tag is never written with anything else.
        const first = fixed.get(reference) ?? manifest.digest;
        ok(first === manifest.digest || !isFixed(reference));
        fixed.set(reference, first);
        tags.set(reference, manifest.digest);
      }
    };
    return {
      repository,
      label: formatRepository(repository),
      requests: 0,
      manifests: {
        resolve,
        put,
        tag: async (tag, manifest) => {
          await put(tag, manifest);
          return resolve(tag);
        },
        readBack: (tag) => resolve(tag),
        get: async (reference) => {
          await step();
          const digest = isDigest(reference) ? reference : tags.get(reference);
          return digest && manifests.get(digest);
        },
      },
      blobs: {
        has: ({ digest }) => Promise.resolve(blobs.has(digest)),
        mount: async (digest, from) => {
          await write();
          const there = this.registry(environment, from.name.replace('skerry/', '')).blobs.has(digest);
          if (there) {
            blobs.set(digest, this.registry(environment, from.name.replace('skerry/', '')).blobs.get(digest));
          }
          return there ? { mounted: true } : { mounted: false, upload: undefined };
        },
        check: () => Promise.reject(new Error('nothing is rehearsed')),
        // Content has to be sent, which takes its time: what was looked up before is looked up again.
        upload: async (blob, source) => {
          await write();
          blobs.set(blob.digest, isOwnRecord(blob.mediaType) ? await allBytes(await source.openBlob(blob)) : undefined);
        },
      },
      referrers: { referrersOf: () => Promise.resolve([]), listsByItself: () => Promise.resolve(true) },
      tags: {
        list: () => noTags(),
        remove: async (tag) => {
          await write();
          return this.removesTags && tags.delete(tag);
        },
      },
      readManifest: ({ digest }) => {
        const bytes = manifests.get(digest)?.bytes;
        const gone = new HodError('content-gone', {
          what: 'it is gone',
          object: digest,
          why: 'it is not there',
          next: 'send it',
        });
        return bytes === undefined ? Promise.reject(gone) : Promise.resolve(bytes);
      },
      openBlob: () => Promise.reject(new Error('no blob is read')),
    };
  }

  private tidyTarget(host: string, component: string, context: WorldContext): RepositoryToTidy {
    const { step } = context;
    const { tags, manifests } = this.registry(host, component);
    const target = this.target(host, component, { ...context, at: host });
    return {
      ...target,
      manifests: {
        get: (reference) => target.manifests.get(reference),
        resolve: (reference) => target.manifests.resolve(reference),
        remove: async (digest) => {
          await step();
          if (this.removes === 'tags') {
            return false;
          }
          manifests.delete(digest);
          [...tags].filter(([, each]) => each === digest).forEach(([tag]) => tags.delete(tag));
          return true;
        },
      },
      tags: {
        list: async function* () {
          await step();
          yield* [...tags.keys()];
        },
        remove: async (tag) => {
          await step();
          return this.removes !== 'manifests' && this.removesTags && tags.delete(tag);
        },
      },
      referrers: {
        referrersOf: async (digest) => {
          await step();
          const all = [...manifests.values()].filter(({ subject }) => subject?.digest === digest);
          return all.map((each) => ({ descriptor: describeManifest(each) }));
        },
      },
    };
  }

  /** The one ledger; each of its steps takes its turn. */
  private ledger(step: () => Promise<void>): Ledger {
    const { memory } = this;
    return {
      place: memory.place,
      read: async (keys) => {
        await step();
        return memory.read(keys);
      },
      append: async (entries, expected) => {
        await step();
        return memory.append(entries, expected);
      },
      appendTogether: async (appends) => {
        await step();
        return memory.appendTogether(appends);
      },
      mayAppend: () => memory.mayAppend(),
      entries: (after) => memory.entries(after),
      snapshot: (work) => memory.snapshot(work),
      neighbours: () => memory.neighbours(),
      close: () => memory.close(),
    };
  }
}

const nodes = new Map<string, ContentNode>();
const images = new Map<Digest, Digest>();

/** What a tag of a platform leads to, of some content. */
export function imageIn(content: Digest): Digest {
  return images.get(content) ?? content;
}

/** What a build holds. Made once: worlds share what never changes. */
export function nodeOf(content: string): ContentNode {
  const known = nodes.get(content) ?? makeNode(content);
  nodes.set(content, known);
  return known;
}

function makeNode(content: string): ContentNode {
  const config = { mediaType: 'application/vnd.oci.empty.v1+json', digest: sha256(`config ${content}`), size: 2 };
  const document = { schemaVersion: 2, mediaType: mediaTypes.manifest, config, layers: [], annotations: { content } };
  const image = parseManifest(Buffer.from(JSON.stringify(document)), { label: content });
  const index = {
    ...{ schemaVersion: 2, mediaType: mediaTypes.index, annotations: { content } },
    manifests: [{ ...describeManifest(image), platform: { os: 'linux', architecture: 'amd64' } }],
  };
  const manifest = parseManifest(Buffer.from(JSON.stringify(index)), { label: content });
  const source = {
    label: 'out',
    readManifest: ({ digest }: { digest: Digest }) =>
      Promise.resolve((digest === image.digest ? image : manifest).bytes),
    openBlob: () => Promise.reject(new Error('an upload is pretended')),
  };
  images.set(manifest.digest, image.digest);
  return isIndex(content)
    ? { manifest, source, children: [{ manifest: image, source, children: [] }] }
    : { manifest: image, source, children: [] };
}

/** Whether a build holds an index: then tags can lead to the image in it. */
const isIndex = (content: string): boolean => content.startsWith('timetable');

async function* noTags(): AsyncGenerator<Tag> {
  yield* await Promise.resolve([]);
}

export function never(): never {
  throw new Error('deliveries do not ask for this');
}
