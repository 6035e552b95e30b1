import { isFollowed } from '../../core/build/following';
import { isCommitId, shortCommit, type CommitId } from '../../core/commit';
import { HodError } from '../../core/errors';
import { commitsOfVersions, type FoundContent, type FoundEnvironment, type LeftTag } from '../../core/release/adoption';
import type { Tag } from '../../core/oci/tag';
import { setTagOf, withTaggedImages } from '../../core/release/verdict';
import { taggedImages, wantedTags, type WantedTag } from '../../core/tags/rules';
import { expandTag, placeholdersOf } from '../../core/tags/template';
import { compareVersions, versionNamed, type Version } from '../../core/tags/version';
import { versionOfTag } from '../../core/tags/version-tags';
import { settleAll } from '../../system/promises';
import { branchesWith, commitsOn, commitTimes } from '../../workspace/git';
import { mayBeOurs, type AdoptionScope, type ShownContent } from './find';

/** What somebody says that what is served is of. */
export interface GivenOrigin {
  readonly version: Version | undefined;
  readonly commit: CommitId | undefined;
}

/** Who told the commit or the version of something. */
export const originTellers = ['command line', 'tag', 'label', 'git tag', 'another environment', 'its version'] as const;
type OriginTeller = (typeof originTellers)[number];

/** What something is of, and who told so. */
interface Origin {
  readonly version?: { readonly value: Version; readonly by: OriginTeller } | undefined;
  readonly commit?: { readonly value: CommitId; readonly by: OriginTeller } | undefined;
}

/** What is recorded of something, and who told what it is of. */
export interface IdentifiedContent extends FoundContent {
  readonly told: { readonly version: OriginTeller | undefined; readonly commit: OriginTeller };
  /** The commit that it names itself, where its release is of another one. */
  readonly claimed: CommitId | undefined;
}

/** Environments with all that is known of what they serve. */
export interface Identified {
  readonly environments: readonly FoundEnvironment<IdentifiedContent>[];
  readonly left: readonly LeftTag[];
}

/** So many tags of a repository are asked what they lead to, to find the one of some content. */
const mostAsked = 60;

/**
 * Finds out which commit and version everything is of: by tags, by its annotations and labels, and by git.
 *
 * @throws {@link HodError} `origin-unknown` where nobody tells the commit of what is served; `fixed-tag-taken` where the version
 * that was given is another content.
 */
export async function identifyServed(
  shown: readonly ShownContent[],
  given: GivenOrigin,
  scope: AdoptionScope,
): Promise<Identified> {
  const git = await readGitOrigins(shown, scope);
  const alone = await settleAll(shown.map((each) => originOf(each, git, scope)));
  const shared = sharedOrigins(shown, alone);
  const claims = shared.map(({ version, commit }) => ({ version: version?.value, commit: commit?.value }));
  const commits = commitsOfVersions(claims, git.tagged);
  const origins = shown.map((each, at) => withGiven(each, settled(shared[at] ?? {}, commits, git), given, git));
  refuseUnknown(shown, origins);
  const identified = shown.map((each, at) => ({ shown: each, origin: origins[at] ?? {}, alone: alone[at] ?? {} }));
  const branchesOf = await readBranches(origins, scope);
  const contents = await settleAll(
    identified.map(async ({ shown: each, origin, alone: { commit: claim } }) => {
      const content = await identifiedContent(each, origin, branchesOf, scope);
      const claimed = claim?.value === content?.commit ? undefined : claim?.value;
      return { environment: each.environment, content: content && { ...content, claimed } };
    }),
  );
  const why = 'its commit is unknown';
  return {
    left: identified
      .filter(({ origin }) => origin.commit === undefined)
      .flatMap(({ shown: { showing, placed } }) =>
        showing.map(({ tag }) => ({ repository: placed.repository, tag, why })),
      ),
    environments: scope.environments.map((environment) => ({
      environment: environment.name,
      from: environment.after ?? null,
      contents: contents.flatMap((each) => (each.environment === environment ? (each.content ?? []) : [])),
    })),
  };
}

/** Finds the followed branches that contain each commit. */
async function readBranches(
  origins: readonly Origin[],
  { config: { folder }, followed }: AdoptionScope,
): Promise<(commit: CommitId) => readonly string[]> {
  const commits = new Set(origins.flatMap(({ commit }) => commit?.value ?? []));
  const found = new Map(
    await settleAll(
      [...commits].map(async (commit): Promise<[CommitId, string[]]> => {
        const branches = await branchesWith(folder, commit);
        return [commit, branches.filter((branch) => isFollowed(branch, followed))];
      }),
    ),
  );
  return (commit) => found.get(commit) ?? [];
}

/** What is to be recorded of some content; undefined where its commit is not known. */
async function identifiedContent(
  shown: ShownContent,
  { version, commit }: Origin,
  branchesOf: (commit: CommitId) => readonly string[],
  scope: AdoptionScope,
): Promise<Omit<IdentifiedContent, 'claimed'> | undefined> {
  if (commit === undefined) {
    return undefined;
  }
  const { environment, placed, images, holds, isServed, showing } = shown;
  const wanted = await tagsOf(shown, { commit: commit.value, version: version?.value }, scope);
  return {
    ...{ holds, commit: commit.value, version: version?.value, isServed },
    placed: withTaggedImages(placed, taggedImages(environment.rulesOf(placed.component), images)),
    branch: showing.find(({ branch }) => branch !== undefined)?.branch,
    branches: branchesOf(commit.value),
    tags: wanted.map((each) => setTagOf(each, placed)),
    follows: wanted.flatMap(({ rule }) => (rule.kind === 'moving' ? [rule.follows] : [])),
    told: { version: version?.by, commit: commit.by },
  };
}

/** What git tells of commits and versions. */
interface GitOrigins {
  /** Versions that git tags name, and their commits. */
  readonly tagged: ReadonlyMap<Version, CommitId>;
  readonly versionAt: ReadonlyMap<CommitId, Version>;
  /** The commits among those that contents name that git has here. */
  readonly known: ReadonlySet<CommitId>;
  /** The commits of a followed branch, or of all of them, the newest first. */
  readonly commitsOf: (branch: string | undefined) => Promise<readonly CommitId[]>;
}

async function readGitOrigins(shown: readonly ShownContent[], scope: AdoptionScope): Promise<GitOrigins> {
  const { config, history, followed } = scope;
  const { folder, versionTags } = config;
  const versions = history.tags.flatMap(({ name, commit }) => {
    const version = versionOfTag(versionTags, name);
    return version === undefined ? [] : [{ version, commit }];
  });
  versions.sort((a, b) => compareVersions(a.version, b.version));
  const named = shown.flatMap(({ claims: { revisions } }) => revisions.filter(isCommitId));
  const times = named.length === 0 ? new Map<CommitId, unknown>() : await commitTimes(folder, [...new Set(named)]);
  const commits = new Map<string, Promise<readonly CommitId[]>>();
  return {
    tagged: new Map(versions.map(({ version, commit }) => [version, commit])),
    versionAt: new Map(versions.map(({ version, commit }) => [commit, version])),
    known: new Set(times.keys()),
    commitsOf: (branch) => {
      const name = branch ?? '';
      const found = commits.get(name) ?? commitsOn(folder, branch === undefined ? followed : [branch]);
      commits.set(name, found);
      return found;
    },
  };
}

/** Finds out what something is of by its own tags, by what it says, and by git tags. */
async function originOf(shown: ShownContent, git: GitOrigins, scope: AdoptionScope): Promise<Origin> {
  const commit = await commitOf(shown, git, scope);
  const version = await versionTagged(shown);
  if (version !== undefined) {
    return { version: { value: version, by: 'tag' }, commit };
  }
  const ofGit = commit === undefined ? undefined : git.versionAt.get(commit.value);
  if (ofGit !== undefined && isUncontradicted(ofGit, commit?.value, shown, git)) {
    return { version: { value: ofGit, by: 'git tag' }, commit };
  }
  const said = versionNamed(shown.claims.version ?? '');
  return said !== undefined && isUncontradicted(said, commit?.value, shown, git)
    ? { version: { value: said, by: 'label' }, commit }
    : { commit };
}

/**
 * The commit of something. A commit tag goes before the label: what did not change between two commits has the label of the first,
 * and belongs to the release of the second.
 */
async function commitOf(shown: ShownContent, git: GitOrigins, scope: AdoptionScope): Promise<Origin['commit']> {
  const tagged = await commitTagged(shown, git, scope);
  if (tagged !== undefined) {
    return { value: tagged, by: 'tag' };
  }
  const [revision = '', ...others] = shown.claims.revisions;
  const isOurs = others.length === 0 && isCommitId(revision) && mayBeOurs(revision, git.known, scope.history);
  return isOurs ? { value: revision, by: 'label' } : undefined;
}

/** A version that is said counts where no tag of the repository, and no git tag, gives it to something else. */
function isUncontradicted(
  version: Version,
  commit: CommitId | undefined,
  { repository }: ShownContent,
  { tagged }: GitOrigins,
): boolean {
  // A tag of this version would have been found to lead here.
  return !repository.versions.has(version) && [undefined, commit].includes(tagged.get(version));
}

/** The highest version whose tag leads to some content; the one that it names itself is asked first. */
async function versionTagged({ repository, placed, claims }: ShownContent): Promise<Version | undefined> {
  const said = versionNamed(claims.version ?? '');
  const all = [...repository.versions.keys()].sort((a, b) => compareVersions(b, a));
  const order = said !== undefined && repository.versions.has(said) ? [said, ...all] : all;
  for (const version of order.slice(0, mostAsked)) {
    const tag = repository.versions.get(version);
    if (tag !== undefined && (await repository.resolve(tag)) === placed.digest) {
      return version;
    }
  }
  return undefined;
}

/** The commit whose tag leads to some content: those of the latest commits are asked. */
async function commitTagged(
  { environment, repository, placed, showing }: ShownContent,
  { commitsOf }: GitOrigins,
  { config: { product } }: AdoptionScope,
): Promise<CommitId | undefined> {
  const { component, digest } = placed;
  const branch = showing.find((each) => each.branch !== undefined)?.branch;
  const rules = environment
    .rulesOf(component)
    .filter(({ kind, template }) => kind === 'fixed' && placeholdersOf(template).join() === 'commit');
  let asked = 0;
  for (const commit of rules.length === 0 ? [] : await commitsOf(branch)) {
    for (const { template } of rules) {
      const expansion = expandTag(template, { product, commit }, component);
      if ('tag' in expansion && repository.tags.has(expansion.tag)) {
        asked += 1;
        if ((await repository.resolve(expansion.tag)) === digest) {
          return commit;
        }
      }
    }
    if (asked >= mostAsked) {
      return undefined;
    }
  }
  return undefined;
}

/** What one environment knows of a digest, others do too. */
function sharedOrigins(shown: readonly ShownContent[], origins: readonly Origin[]): Origin[] {
  const keyOf = ({ placed: { component, digest } }: ShownContent): string => `${component} ${digest}`;
  const by = 'another environment';
  return shown.map((each, at) => {
    const same = origins.filter((_, other) => {
      const that = shown[other];
      return that !== undefined && keyOf(that) === keyOf(each);
    });
    const version = same.find((origin) => origin.version !== undefined)?.version;
    const commit = same.find((origin) => origin.commit !== undefined)?.commit;
    const own = origins[at] ?? {};
    return {
      version: own.version ?? (version && { value: version.value, by }),
      commit: own.commit ?? (commit && { value: commit.value, by }),
    };
  });
}

/** All components of a version are of one commit. */
function settled({ version, commit }: Origin, commits: ReadonlyMap<Version, CommitId>, { tagged }: GitOrigins): Origin {
  const value = version === undefined ? undefined : commits.get(version.value);
  if (version === undefined || value === undefined || value === commit?.value) {
    return { version, commit };
  }
  return { version, commit: { value, by: tagged.has(version.value) ? 'git tag' : 'its version' } };
}

/** What is given goes before what anything says; it is about what is served. */
function withGiven(
  { isServed }: ShownContent,
  origin: Origin,
  { version, commit }: GivenOrigin,
  { tagged }: GitOrigins,
): Origin {
  if (!isServed || (version === undefined && commit === undefined)) {
    return origin;
  }
  const by = 'command line';
  const ofVersion = version === undefined ? undefined : tagged.get(version);
  return {
    version: version === undefined ? origin.version : { value: version, by },
    commit:
      commit !== undefined
        ? { value: commit, by }
        : ofVersion === undefined
          ? origin.commit
          : { value: ofVersion, by: 'git tag' },
  };
}

function refuseUnknown(shown: readonly ShownContent[], origins: readonly Origin[]): void {
  const unknown = shown.filter(({ isServed }, at) => isServed && origins[at]?.commit === undefined);
  const [first] = unknown;
  if (first === undefined) {
    return;
  }
  const component = first.placed.component;
  throw new HodError('origin-unknown', {
    what: 'the commit of the served image is unknown',
    object: unknown.map(({ placed, environment, showing }) => {
      return `${placed.component} in ${environment.name} (${placed.repository}:${showing[0]?.tag ?? ''})`;
    }),
    why: [...new Set(unknown.map(({ claims: { revisions } }) => whyUnknown(revisions)))],
    next: `name its commit: \`hod adopt ${first.environment.name} --only ${component} --commit COMMIT\`, with --version VERSION where it has one`,
  });
}

function whyUnknown([revision, ...others]: readonly string[]): string {
  if (others.length > 0) {
    return `its images name different commits: ${[revision ?? '', ...others].map(shortCommit).join(', ')}`;
  }
  if (revision === undefined) {
    return 'it has no label or annotation with its commit, no commit tag, and no version that a git tag names';
  }
  return isCommitId(revision)
    ? `its label names the commit ${shortCommit(revision)}, which git does not have here: it may be that of its base image`
    : `its label names ${JSON.stringify(revision.slice(0, 60))}, which is no full commit id`;
}

/** The tags of an environment's rules that lead to some content. */
async function tagsOf(
  { environment, repository, placed, images, showing, isServed }: ShownContent,
  { commit, version }: { readonly commit: CommitId; readonly version: Version | undefined },
  { config: { product }, version: given }: AdoptionScope,
): Promise<WantedTag[]> {
  const { component, digest } = placed;
  const branches = showing.map(({ branch }) => branch).filter((branch) => branch !== undefined);
  const values = { product, commit, version, dirty: false };
  const rules = environment.rulesOf(component);
  const all = [undefined, ...branches].flatMap(
    (branch) => wantedTags(rules, { ...values, branch }, component, { digest, images }).wanted,
  );
  const wanted = [...new Map(all.map((each): [Tag, WantedTag] => [each.tag, each])).values()];
  const found = await settleAll(
    wanted
      .filter(({ tag }) => repository.tags.has(tag))
      .map(async (each) => {
        const { tag, rule, image } = each;
        const leads = await repository.resolve(tag);
        return { wanted: each, tag, rule, leads, isRight: leads === (image?.digest ?? digest) };
      }),
  );
  const taken = found.find(({ rule, isRight }) => rule.kind === 'fixed' && !isRight);
  if (isServed && given !== undefined && taken?.leads !== undefined) {
    throw new HodError('fixed-tag-taken', {
      what: `${environment.name} does not serve ${given}`,
      object: `${placed.repository}:${taken.tag}`,
      why: `the tag leads to ${taken.leads}, and ${showing[0]?.tag ?? ''} to ${digest}`,
      next: `leave --version out, or name the version that ${showing[0]?.tag ?? ''} leads to`,
    });
  }
  return found.filter(({ isRight }) => isRight).map((each) => each.wanted);
}
