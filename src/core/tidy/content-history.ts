import type { CommitId } from '../commit';
import type { Action } from '../ledger/entries';
import type { SealedEntry } from '../ledger/entry';
import { tagKey, type TagPlace } from '../ledger/facts';
import type { ReleaseId, SetTag } from '../ledger/release';
import type { Digest } from '../oci/digest';
import type { RepositoryName } from '../oci/reference';
import type { Tag } from '../oci/tag';
import type { Version } from '../tags/version';
import { weekOf, type Timestamp } from '../time';

/** A component of a release that came into an environment. */
export interface ContentStay {
  readonly environment: string;
  readonly component: string;
  readonly digest: Digest;
  readonly release: ReleaseId;
  readonly version: Version | undefined;
  readonly commit: CommitId;
  readonly branch: string | undefined;
  /** When it came in, and the entry that says so: the last time, where it came again. */
  readonly at: Timestamp;
  readonly seq: number;
  /** The environment served it, once at least. */
  readonly served: boolean;
}

/** Content that the ledger says is in a repository. */
export interface PlacedContent {
  readonly repository: RepositoryName;
  readonly digest: Digest;
  /** The components that have it, mostly one. */
  readonly components: Set<string>;
  readonly environments: Set<string>;
  /** The tags that the ledger gave to it or to an image in it; fixed ones, for ever. */
  readonly tags: Set<Tag>;
  /** The releases that have it, or had it. */
  readonly releases: Map<ReleaseId, Pick<ContentStay, 'version' | 'commit'>>;
  /** When it was uploaded, and no release came in with it: it was staged, or tidying had removed it before. */
  uploaded: Timestamp | undefined;
}

/** Content of which nothing is known yet but where it is, and tags that lead to it. */
export function newContent(repository: RepositoryName, digest: Digest, tags: readonly Tag[]): PlacedContent {
  return {
    ...{ repository, digest, components: new Set(), environments: new Set(), tags: new Set(tags) },
    ...{ releases: new Map(), uploaded: undefined },
  };
}

/** How much content came to a repository in a week, and how much was removed. `week`: its Monday (UTC). */
export interface WeekOfContent {
  readonly week: string;
  readonly added: number;
  readonly removed: number;
}

/** That content is being removed. */
export type Removing = Extract<Action, { kind: 'removing' }>;
type Removed = Extract<Action, { kind: 'removed' }>;
type ArrivedAction = Extract<Action, { kind: 'published' | 'promoted' | 'adopted' }>;

/** What a ledger tells of content: which came where, and with which tags. Entries are added in their order. */
export class ContentHistory {
  /** By environment, component and release. */
  readonly stays = new Map<string, ContentStay>();
  /** Every tag that the ledger ever set in a repository. */
  readonly tags = new Map<RepositoryName, Set<Tag>>();
  /** Every moving tag that each environment had, by its name in full. */
  readonly moving = new Map<string, Map<string, TagPlace>>();
  /** The components that each environment has, or had. */
  readonly components = new Map<string, Set<string>>();
  /** What is being removed, by the entry that says so: a run is at it, or was ended. */
  readonly claims = new Map<number, Removing>();
  private readonly origins = new Map<ReleaseId, Pick<ContentStay, 'version' | 'commit'>>();
  private readonly places = new Map<RepositoryName, Map<Digest, PlacedContent>>();
  private readonly flows = new Map<RepositoryName, Map<string, { added: number; removed: number }>>();
  /** The week of the entry that is added. */
  private week = '';

  /** What the ledger says is in each repository. */
  get placed(): ReadonlyMap<RepositoryName, ReadonlyMap<Digest, PlacedContent>> {
    return this.places;
  }

  /** What came to a repository and went from it, week by week. */
  weeksOf(repository: RepositoryName): WeekOfContent[] {
    return [...(this.flows.get(repository) ?? [])].map(([week, counts]) => ({ week, ...counts }));
  }

  add({ entry: { action, at, seq } }: SealedEntry): void {
    this.week = weekOf(at);
    switch (action.kind) {
      case 'staged':
        for (const { component, repository, digest } of action.parts) {
          const placed = this.place(repository, digest, { component, environment: action.environment });
          placed.uploaded = at;
        }
        break;
      case 'published':
      case 'promoted':
      case 'adopted':
        this.arrive(action, { at, seq });
        break;
      case 'returned':
        for (const { component, repository, digest } of action.components) {
          const placed = this.place(repository, digest, { component, environment: action.environment });
          placed.uploaded = at;
          const origin = this.origins.get(action.release);
          if (origin !== undefined) {
            placed.releases.set(action.release, origin);
          }
          action.tags
            .filter((each) => each.component === component)
            .forEach((tag) => this.tag(placed, tag, action.environment));
        }
        break;
      case 'moved':
        this.move(action);
        break;
      case 'removing':
        this.claims.set(seq, action);
        break;
      case 'removed':
        this.claims.delete(action.claim);
        action.contents.forEach((content) => this.remove(content));
        break;
      default:
        break;
    }
  }

  private move(action: Extract<Action, { kind: 'moved' }>): void {
    for (const { component, repository, release, tag, kind } of action.tags) {
      // A tag of an image belongs to the index that comes along with it.
      const whole = action.tags.find(
        (each) => each.component === component && each.release === release && each.platform === undefined,
      );
      if (whole !== undefined) {
        const { environment } = action;
        this.tag(
          this.place(repository, whole.digest, { component, environment }),
          { component, tag, kind },
          environment,
        );
      }
    }
  }

  private arrive(action: ArrivedAction, { at, seq }: Pick<ContentStay, 'at' | 'seq'>): void {
    const { environment, release, version, commit, branch, arrivals } = action;
    this.origins.set(release, { version, commit });
    for (const { component, repository, digest } of action.components) {
      const placed = this.place(repository, digest, { component, environment });
      placed.uploaded = undefined;
      placed.releases.set(release, { version, commit });
      const key = `${environment} ${component} ${release}`;
      const ways = arrivals.filter((each) => each.component === component);
      const served = this.stays.get(key)?.served === true || ways.some(({ way }) => way === 'takes-over');
      // Added anew: what came last is last.
      this.stays.delete(key);
      this.stays.set(key, { environment, component, digest, release, version, commit, branch, at, seq, served });
      for (const tag of action.tags.filter((each) => each.component === component)) {
        this.tag(placed, tag, environment);
      }
    }
  }

  /** Drops content that was removed. Each manifest that the registry kept is content of its own from then on. */
  private remove({ repository, digest, removed, left }: Removed['contents'][number]): void {
    const placed = this.places.get(repository)?.get(digest);
    if (placed !== undefined && removed.includes(digest)) {
      this.places.get(repository)?.delete(digest);
      this.flow(repository).removed += 1;
      for (const rest of left) {
        for (const component of placed.components) {
          placed.environments.forEach((environment) => this.place(repository, rest, { component, environment }));
        }
      }
    }
  }

  private place(
    repository: RepositoryName,
    digest: Digest,
    { component, environment }: Pick<ContentStay, 'component' | 'environment'>,
  ): PlacedContent {
    const inRepository = this.places.get(repository) ?? new Map<Digest, PlacedContent>();
    const known = inRepository.get(digest);
    const placed = known ?? newContent(repository, digest, []);
    this.flow(repository).added += known === undefined ? 1 : 0;
    placed.components.add(component);
    addTo(this.components, environment, component);
    placed.environments.add(environment);
    inRepository.set(digest, placed);
    this.places.set(repository, inRepository);
    return placed;
  }

  private flow(repository: RepositoryName): { added: number; removed: number } {
    const flows = this.flows.get(repository) ?? new Map<string, { added: number; removed: number }>();
    const flow = flows.get(this.week) ?? { added: 0, removed: 0 };
    flows.set(this.week, flow);
    this.flows.set(repository, flows);
    return flow;
  }

  private tag(
    placed: PlacedContent,
    { component, tag, kind }: Pick<SetTag, 'component' | 'tag' | 'kind'>,
    environment: string,
  ): void {
    const { repository } = placed;
    addTo(this.tags, repository, tag);
    if (kind === 'fixed') {
      placed.tags.add(tag);
      return;
    }
    const moving = this.moving.get(environment) ?? new Map<string, TagPlace>();
    moving.set(tagKey(repository, tag), { component, repository, tag });
    this.moving.set(environment, moving);
  }
}

function addTo<K, V>(sets: Map<K, Set<V>>, key: K, value: V): void {
  const set = sets.get(key) ?? new Set();
  set.add(value);
  sets.set(key, set);
}
