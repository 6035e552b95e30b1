import fc from 'fast-check';
import { commitSchema, type CommitId } from '../../src/core/commit';
import type { ContentNode, ContentSource } from '../../src/core/oci/content';
import { isDigest, sha256, type Digest } from '../../src/core/oci/digest';
import { parseManifest, type Manifest } from '../../src/core/oci/manifest';
import { mediaTypes } from '../../src/core/oci/media-types';
import { formatRepository, parseRepository } from '../../src/core/oci/reference';
import type { Build } from '../../src/core/release/build';
import { emptyHead, foldInto, headAfter, type Head, type SealedEntry } from '../../src/core/release/entry';
import { Facts } from '../../src/core/release/facts';
import type { Publication } from '../../src/core/release/publication';
import type { VersionRequest } from '../../src/core/release/versions';
import { followedBy, type TagRule } from '../../src/core/tags/rules';
import { isTag, type Tag } from '../../src/core/tags/tag';
import { parseTemplate } from '../../src/core/tags/template';
import { compareVersions, everyVersion, isPrerelease, parseVersion, type Version } from '../../src/core/tags/version';
import type { Ledger } from '../../src/ledger/ledger';
import { silent } from '../../src/session/observer';
import { deliver } from '../../src/delivery/deliver';
import { arriving, type DeliveryTarget } from '../../src/delivery/delivery';
import { publicationDelivery } from '../../src/delivery/publication';

const product = 'skerry-line';
const repository = parseRepository('registry.test/skerry/timetable');

const rule = (text: string, kind: TagRule['kind']): TagRule => {
  const template = parseTemplate(text);
  return kind === 'fixed' ? { kind, template } : { kind, template, follows: followedBy(template, 'dev') };
};
const rules = [
  ...['c-{commit:12}', '{version}'].map((text) => rule(text, 'fixed')),
  ...['{branch}', '{major}.{minor}', '{major}', 'latest'].map((text) => rule(text, 'moving')),
];

/** A commit, its ancestors, the branch that builds it, and what its build is to be called. */
interface Commit {
  id: CommitId;
  ancestors: ReadonlySet<string>;
  branch: string;
  version: VersionRequest;
  /** What its build holds. */
  content: string;
}

class Killed extends Error {}

/** A registry and a ledger that several publishers use at once; a scheduler decides whose turn it is. */
class World {
  readonly tags = new Map<Tag, Digest>();
  readonly manifests = new Map<Digest, Manifest>();
  readonly entries: SealedEntry[] = [];
  private readonly facts = new Facts();
  private head: Head = emptyHead;

  constructor(
    private readonly commits: readonly Commit[],
    private readonly turn: () => Promise<unknown>,
  ) {}

  /** Publishes a build as the program does. Dies before its n-th step where `steps` is n. */
  async publish(commit: Commit, steps = Infinity): Promise<Version | undefined> {
    let left = steps;
    const step = async (): Promise<void> => {
      await this.turn();
      left -= 1;
      if (left < 0) {
        throw new Killed();
      }
    };
    const node = this.nodeOf(commit);
    const item = { image: 'timetable', node, platforms: ['linux/amd64'], target: this.target(step) };
    const build: Build = {
      commit: commit.id,
      branch: commit.branch,
      version: commit.version,
      number: undefined,
      run: undefined,
      date: undefined,
      dirty: false,
    };
    const publication: Publication = {
      product,
      environment: 'dev',
      rules,
      build,
      images: [arriving(item)],
      claims: [],
      strictOrder: false,
    };
    const { plan } = await deliver(publicationDelivery(publication, [item]), {
      ledger: this.ledger(step),
      orders: {
        around: async () => {
          await step();
          return { contains: (older, newer) => this.contains(older, newer), gap: '' };
        },
        highest: () => Promise.resolve(undefined),
      },
      observer: silent,
      actor: 'una',
      dryRun: false,
    });
    return plan.versioning.version;
  }

  digestOf(commit: Commit): Digest {
    return this.nodeOf(commit).manifest.digest;
  }

  at(tag: string): Digest | undefined {
    return isTag(tag) ? this.tags.get(tag) : undefined;
  }

  private contains(older: string, newer: string): boolean | undefined {
    return older === newer || this.commits.find(({ id }) => id === newer)?.ancestors.has(older);
  }

  private nodeOf({ content }: Commit): ContentNode {
    const config = { mediaType: 'application/vnd.oci.empty.v1+json', digest: sha256('{}'), size: 2 };
    const document = { schemaVersion: 2, mediaType: mediaTypes.manifest, config, layers: [], annotations: { content } };
    const manifest = parseManifest(Buffer.from(JSON.stringify(document)), { label: content });
    const source: ContentSource = {
      label: 'out',
      readManifest: () => Promise.resolve(manifest.bytes),
      openBlob: () => Promise.reject(new Error('an upload is pretended')),
    };
    return { manifest, source, children: [] };
  }

  private target(step: () => Promise<void>): DeliveryTarget {
    const resolve = async (reference: Tag | Digest): Promise<Digest | undefined> => {
      await step();
      return isDigest(reference) ? this.manifests.get(reference)?.digest : this.tags.get(reference);
    };
    const put = async (reference: Tag | Digest, manifest: Manifest): Promise<void> => {
      await step();
      this.manifests.set(manifest.digest, manifest);
      if (!isDigest(reference)) {
        const before = this.tags.get(reference);
        // A fixed tag is never written with anything else.
        expect(before === undefined || before === manifest.digest || !/^c-|^\d+\.\d+\.\d+/.test(reference)).toBe(true);
        this.tags.set(reference, manifest.digest);
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
        get: async (reference) => {
          await step();
          const digest = isDigest(reference) ? reference : this.tags.get(reference);
          return digest && this.manifests.get(digest);
        },
      },
      blobs: {
        // Content has to be sent, which takes its time: what was looked up before is looked up again.
        has: () => Promise.resolve(false),
        mount: () => Promise.reject(new Error('there is nothing to mount from')),
        check: () => Promise.reject(new Error('nothing is rehearsed')),
        upload: step,
      },
      tags: { list: () => noTags() },
      readManifest: () => Promise.reject(new Error('nothing is read by descriptor')),
      openBlob: () => Promise.reject(new Error('no blob is read')),
    };
  }

  private ledger(step: () => Promise<void>): Ledger {
    return {
      read: async (keys) => {
        await step();
        const facts = new Facts(keys);
        const wanted = new Set(keys.map(({ kind, key }) => `${kind} ${key}`));
        this.facts.all().forEach(({ key, text }) => wanted.has(`${key.kind} ${key.key}`) && facts.load(key, text));
        return { head: this.head, facts };
      },
      append: async (entries, expected) => {
        await step();
        if (expected.seq !== this.head.seq) {
          return undefined;
        }
        for (const sealed of entries) {
          foldInto(this.facts, sealed.entry);
          this.entries.push(sealed);
          this.head = headAfter(sealed);
        }
        return 0;
      },
      entries: () => never(),
      snapshot: () => never(),
      close: () => Promise.resolve(),
    };
  }
}

async function* noTags(): AsyncGenerator<Tag> {
  yield* await Promise.resolve([]);
}

function never(): never {
  throw new Error('deliveries do not ask for this');
}

const idOf = (at: number): CommitId => commitSchema.parse(at.toString(16).padStart(4, '0').padEnd(40, 'a'));

/** What happens next to a history. */
type Event =
  | { kind: 'commit'; on: number }
  | { kind: 'branch' }
  | { kind: 'merge'; from: number }
  | { kind: 'release'; part: 'major' | 'minor' | 'patch'; pre: boolean }
  | { kind: 'backport' };
const event: fc.Arbitrary<Event> = fc.oneof(
  fc.record({ kind: fc.constant('commit' as const), on: fc.nat(3) }),
  fc.record({ kind: fc.constant('branch' as const) }),
  fc.record({ kind: fc.constant('merge' as const), from: fc.nat(3) }),
  fc.record({
    kind: fc.constant('release' as const),
    part: fc.constantFrom('major', 'minor', 'patch'),
    pre: fc.boolean(),
  }),
  fc.record({ kind: fc.constant('backport' as const) }),
);

/** Builds a history: a main line with releases and pre-releases, branches that are merged, and backports. */
function historyOf(events: readonly Event[]): Commit[] {
  const commits: Commit[] = [];
  const tips = new Map<string, Commit>();
  const releases: { version: Version; commit: Commit }[] = [];
  const grow = (branch: string, parents: readonly (Commit | undefined)[], version?: Version): Commit => {
    const known = parents.filter((parent) => parent !== undefined);
    const id = idOf(commits.length);
    const ancestors = new Set(known.flatMap((parent) => [parent.id, ...parent.ancestors]));
    const request: VersionRequest =
      version === undefined ? { kind: 'none' } : { kind: 'given', version, source: 'git' };
    const commit = { id, ancestors, branch, version: request, content: id };
    commits.push(commit);
    tips.set(branch, commit);
    return commit;
  };
  grow('main', []);
  const others = (): string[] => [...tips.keys()].filter((name) => name !== 'main');
  for (const each of events) {
    const names = others();
    switch (each.kind) {
      case 'commit': {
        const branch = names[each.on] ?? 'main';
        grow(branch, [tips.get(branch)]);
        break;
      }
      case 'branch':
        grow(`work-${names.length}`, [tips.get('main')]);
        break;
      case 'merge':
        grow('main', [tips.get('main'), tips.get(names[each.from] ?? 'main')]);
        break;
      case 'release': {
        const last = releases.filter(({ commit }) => commit.branch === 'main').at(-1)?.version ?? '1.0.0';
        const [major = 0, minor = 0, patch = 0] = last.split('-')[0]?.split('.').map(Number) ?? [];
        const next = { major: [major + 1, 0, 0], minor: [major, minor + 1, 0], patch: [major, minor, patch + 1] }[
          each.part
        ];
        // A backport may have taken the next patch.
        const isTaken = (): boolean => releases.some(({ version }) => version.startsWith(next.join('.')));
        while (isTaken()) {
          next[2] = (next[2] ?? 0) + 1;
        }
        const version = parseVersion(`${next.join('.')}${each.pre ? '-rc.1' : ''}`);
        releases.push({ version, commit: grow('main', [tips.get('main')], version) });
        break;
      }
      case 'backport': {
        // The last but one release is mended: its next patch, unless it is taken.
        const base = releases.filter(({ version }) => !isPrerelease(version)).at(-2);
        const [major, minor, patch] = base?.version.split('.').map(Number) ?? [];
        const text = `${major ?? 0}.${minor ?? 0}.${(patch ?? 0) + 1}`;
        if (base !== undefined && !releases.some(({ version }) => version.startsWith(text))) {
          const version = parseVersion(text);
          releases.push({ version, commit: grow(`support-${text}`, [base.commit], version) });
        }
      }
    }
  }
  return commits;
}

/** Publishes commits, several at a time, some of them killed on the way, and those again at the end. */
async function publishAll(
  world: World,
  scheduler: fc.Scheduler,
  order: readonly Commit[],
  lanes: number,
  steps: readonly (number | null)[],
): Promise<void> {
  const killed: Commit[] = [];
  const run = async (commit: Commit, last: number | null | undefined): Promise<void> => {
    try {
      await world.publish(commit, last ?? undefined);
    } catch (error) {
      if (!(error instanceof Killed)) {
        throw error;
      }
      killed.push(commit);
    }
  };
  const queue = order.map((commit, at) => ({ commit, last: steps[at % Math.max(1, steps.length)] }));
  const lane = async (): Promise<void> => {
    for (let next = queue.shift(); next !== undefined; next = queue.shift()) {
      await run(next.commit, next.last);
    }
  };
  const all = Promise.all(Array.from({ length: lanes }, lane));
  await scheduler.waitFor(all);
  for (const commit of killed) {
    await scheduler.waitFor(world.publish(commit));
  }
}

const lanes = fc.integer({ min: 1, max: 4 });
const steps = fc.array(fc.option(fc.nat(25)), { maxLength: 5 });

test('whatever the order, the publishers and the kills: tags end where one publisher in the right order leaves them', async () => {
  let reruns = 0;
  await fc.assert(
    fc.asyncProperty(
      fc.scheduler(),
      fc.array(event, { maxLength: 12 }),
      fc.infiniteStream(fc.nat()),
      lanes,
      steps,
      async (scheduler, events, random, publishers, kills) => {
        const commits = historyOf(events);
        const builds = commits.flatMap((commit) =>
          Number(random.next().value) % 4 === 0 ? [commit, commit] : [commit],
        );
        reruns += builds.length - commits.length;
        const order = builds
          .map((build) => ({ build, key: Number(random.next().value) }))
          .sort((a, b) => a.key - b.key)
          .map(({ build }) => build);
        const world = new World(commits, () => scheduler.schedule(Promise.resolve()));
        await publishAll(world, scheduler, order, publishers, kills);

        const versions = new Map(
          commits.flatMap((commit) =>
            commit.version.kind === 'given' ? [[commit.version.version, commit] as const] : [],
          ),
        );
        const expectAt = (tag: string, commit: Commit | undefined): void =>
          expect([tag, world.at(tag)]).toEqual([tag, commit && world.digestOf(commit)]);
        const highest = (line: string): Commit | undefined => {
          const all = [...versions.keys()].filter((version) => !isPrerelease(version) && version.startsWith(line));
          return versions.get(all.sort(compareVersions).at(-1) ?? parseVersion('0.0.0'));
        };
        for (const commit of commits) {
          expectAt(`c-${commit.id.slice(0, 12)}`, commit);
          expectAt(commit.branch, commits.filter(({ branch }) => branch === commit.branch).at(-1));
        }
        for (const [version, commit] of versions) {
          const [major = '', minor = ''] = version.split('.');
          expectAt(version, commit);
          expectAt(`${major}.${minor}`, highest(`${major}.${minor}.`));
          expectAt(major, highest(`${major}.`));
        }
        expectAt('latest', highest(''));
        // One entry for each build, whatever was killed and run again.
        expect(world.entries).toHaveLength(commits.length);
      },
    ),
    { numRuns: 300 },
  );
  expect(reruns).toBeGreaterThan(50);
});

test('a newer build between any two steps of an older one that is killed at any later step: run again, all is right', async () => {
  const [older, newer] = historyOf([{ kind: 'commit', on: 0 }]);
  if (older === undefined || newer === undefined) {
    throw new Error('the history is too short');
  }
  let count = 0;
  await new World([older, newer], () => Promise.resolve((count += 1))).publish(older);
  const total = count;
  expect(total).toBeGreaterThan(10);
  for (let between = 1; between <= total; between += 1) {
    for (let killed = between; killed <= total + 2; killed += 1) {
      let step = 0;
      let meanwhile: Promise<unknown> | undefined;
      const world: World = new World([older, newer], async () => {
        step += 1;
        if (step === between) {
          await (meanwhile = world.publish(newer));
        }
      });
      await world.publish(older, killed).catch((error: unknown) => {
        if (!(error instanceof Killed)) {
          throw error;
        }
      });
      await world.publish(older);
      await meanwhile;
      const found = [world.at('main'), world.at(`c-${older.id.slice(0, 12)}`), world.at(`c-${newer.id.slice(0, 12)}`)];
      expect({ between, killed, found }).toEqual({
        between,
        killed,
        found: [world.digestOf(newer), world.digestOf(older), world.digestOf(newer)],
      });
      expect(world.entries).toHaveLength(2);
    }
  }
});

test('whoever asks for the next version: each is unique, none is skipped, and a later commit never has an earlier one', async () => {
  let shared = 0;
  await fc.assert(
    fc.asyncProperty(
      fc.scheduler(),
      fc.array(fc.nat(3), { minLength: 2, maxLength: 10 }),
      fc.infiniteStream(fc.nat()),
      lanes,
      steps,
      async (scheduler, contents, random, publishers, kills) => {
        const commits = contents.map((content, at): Commit => {
          const version = { kind: 'next', part: 'patch', line: everyVersion } as const;
          // Some commits change nothing in what is built.
          const same = at > 0 && content === 0;
          const made = same ? contents.slice(0, at).findLastIndex((each, before) => before === 0 || each !== 0) : at;
          return {
            id: idOf(at),
            ancestors: new Set(contents.slice(0, at).map((_, before) => idOf(before))),
            branch: 'main',
            version,
            content: String(made),
          };
        });
        const order = [...commits, ...commits.slice(0, 2)]
          .map((build) => ({ build, key: Number(random.next().value) }))
          .sort((a, b) => a.key - b.key)
          .map(({ build }) => build);
        const world = new World(commits, () => scheduler.schedule(Promise.resolve()));
        await publishAll(world, scheduler, order, publishers, kills);

        const published = world.entries.flatMap(({ entry: { action } }) =>
          action.kind === 'published' ? [action] : [],
        );
        const given = new Map<string, Set<Digest>>();
        for (const { version, images } of published) {
          if (version !== undefined) {
            given.set(version, new Set([...(given.get(version) ?? []), ...images.map(({ digest }) => digest)]));
          }
        }
        // Unique: a version stands for one content. Without gaps: 0.0.1, 0.0.2, …
        expect([...given.values()].every((digests) => digests.size === 1)).toBe(true);
        expect([...given.keys()]).toEqual([...given.keys()].map((_, at) => `0.0.${at + 1}`));
        // Later entries with a new version are of later commits.
        const firsts = [...given.keys()].map(
          (version) => published.find((each) => each.version === version)?.commit ?? '',
        );
        expect(firsts).toEqual([...firsts].sort());
        const last = [...given.keys()].at(-1) ?? '';
        expect(world.at('latest')).toBe(world.at(last));
        // The newest commit has the last version, or holds the same as the commit that has it.
        expect(world.at(last)).toBe(world.digestOf(commits.at(-1) ?? never()));
        shared += published.filter(({ version }) => version !== undefined).length - given.size;
      },
    ),
    { numRuns: 300 },
  );
  expect(shared).toBeGreaterThan(20);
});
