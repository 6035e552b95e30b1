import { isFollowed } from '../build/following';
import type { ContentHistory, ContentStay, PlacedContent } from './content-history';
import type { KeepRules } from './keep';
import type { NeededContent, NeededFor } from './needed';
import type { RepositoryName } from '../oci/reference';
import type { Digest } from '../oci/digest';
import type { Tag } from '../oci/tag';
import type { Version } from '../tags/version';
import type { Timestamp } from '../time';

/** An environment, and what it keeps. */
export interface KeepingEnvironment {
  readonly name: string;
  /** Undefined where it keeps everything. */
  readonly keep: KeepRules | undefined;
  /** Names and patterns of the branches that it follows; undefined where it takes releases of every branch alike. */
  readonly follows: readonly string[] | undefined;
  /** The environments that its releases come from, directly or through others. */
  readonly before: readonly string[];
}

/** Why content stays. */
export type StayReason =
  | { readonly why: NeededFor; readonly environment: string; readonly tag?: Tag | undefined }
  /** An environment keeps so many releases, releases of a branch, or all of some time. */
  | { readonly why: 'releases' | 'branches' | 'time'; readonly environment: string }
  /** An environment has no `keep` in hod.yaml. */
  | { readonly why: 'all'; readonly environment: string }
  /** A later environment has served it under a version. */
  | { readonly why: 'released'; readonly environment: string; readonly version: Version }
  /** It was uploaded not long ago, and is not released yet; or tidying had removed it, and its build ran again. */
  | { readonly why: 'uploaded' };

/** Content that stays, and every reason for it: what says the most comes first. */
export interface StayingContent {
  readonly placed: PlacedContent;
  readonly reasons: readonly StayReason[];
}

/** What the ledger says of the content of a repository. */
export interface RepositoryPlan {
  readonly repository: RepositoryName;
  readonly goes: readonly PlacedContent[];
  readonly stays: readonly StayingContent[];
  /** What other products of the ledger have there, and which of them: it stays. */
  readonly others: ReadonlyMap<Digest, string>;
}

/** All content of a repository, whether it goes or stays. */
export function contentIn({ goes, stays }: Pick<RepositoryPlan, 'goes' | 'stays'>): PlacedContent[] {
  return [...goes, ...stays.map(({ placed }) => placed)];
}

/** What content is decided on. */
export interface ContentQuestion {
  readonly history: ContentHistory;
  /** Every environment that hod.yaml or the ledger names. */
  readonly environments: readonly KeepingEnvironment[];
  readonly needed: readonly NeededContent[];
  /** What the ledgers of other products tell, by the product. */
  readonly others: ReadonlyMap<string, ContentHistory>;
  readonly now: Timestamp;
  /** Versions that later environments have served may go too. */
  readonly versions: boolean;
}

/** What was uploaded and came into nothing stays for so long, in milliseconds: its build may be in progress. */
const uploadedFor = 24 * 60 * 60 * 1000;

/** Returns every reason why content stays; none where it goes. */
export type ReasonsOf = (placed: PlacedContent) => readonly StayReason[];

/** Decides for all content that the ledger says is in some repositories whether it goes or stays. */
export function planContent(
  repositories: readonly RepositoryName[],
  { history, others }: Pick<ContentQuestion, 'history' | 'others'>,
  reasonsOf: ReasonsOf,
): RepositoryPlan[] {
  return repositories.map((repository) => {
    const goes: PlacedContent[] = [];
    const stays: StayingContent[] = [];
    for (const placed of history.placed.get(repository)?.values() ?? []) {
      const reasons = reasonsOf(placed);
      if (reasons.length === 0) {
        goes.push(placed);
      } else {
        stays.push({ placed, reasons });
      }
    }
    return { repository, goes, stays, others: ofOthers(repository, others) };
  });
}

/** What other products have in a repository. */
function ofOthers(repository: RepositoryName, others: ContentQuestion['others']): Map<Digest, string> {
  return new Map(
    [...others].flatMap(([product, { placed }]) =>
      [...(placed.get(repository)?.keys() ?? [])].map((digest) => [digest, product] as const),
    ),
  );
}

/** Decides what keeps content. The answer stands for as long as nothing comes into an environment, and none changes. */
export function decideReasons(question: ContentQuestion): ReasonsOf {
  const { history, environments, needed, now, versions } = question;
  const keeping = new Map(environments.map((each) => [each.name, each]));
  const served = new Map<Digest, StayReason[]>();
  const neededThere = new Map<string, StayReason[]>();
  for (const { environment, digest, for: why, tag } of needed) {
    // What is served stays everywhere; the rest, where that environment has it.
    const reason = { why, environment, tag };
    if (why === 'served') {
      add(served, digest, reason);
    } else {
      add(neededThere, `${environment} ${digest}`, reason);
    }
  }
  const byRules = reasonsByRules([...history.stays.values()], keeping, now);
  const released = versions ? new Map<string, StayReason[]>() : releasedLater(history, environments);
  return ({ digest, environments: among, uploaded }) => {
    const names = [...among];
    const everywhere = names.flatMap((name): StayReason[] =>
      keeping.get(name)?.keep === undefined ? [{ why: 'all', environment: name }] : [],
    );
    return [
      ...(served.get(digest) ?? []),
      ...names.flatMap((name) => neededThere.get(`${name} ${digest}`) ?? []),
      ...names.flatMap((name) => released.get(`${name} ${digest}`) ?? []),
      ...names.flatMap((name) => byRules.get(`${name} ${digest}`) ?? []),
      ...(uploaded !== undefined && ageOf(uploaded, now) < uploadedFor ? [{ why: 'uploaded' } as const] : []),
      ...everywhere,
    ];
  };
}

/** What environments keep by their rules, by environment and digest. */
function reasonsByRules(
  stays: readonly ContentStay[],
  keeping: ReadonlyMap<string, KeepingEnvironment>,
  now: Timestamp,
): Map<string, StayReason[]> {
  const reasons = new Map<string, StayReason[]>();
  const counted = new Map<string, number>();
  const newestFirst = [...stays].sort((a, b) => b.seq - a.seq);
  for (const stay of newestFirst) {
    const { environment, component, digest, branch, at } = stay;
    const { keep, follows } = keeping.get(environment) ?? {};
    if (keep === undefined) {
      continue;
    }
    const isOther =
      keep.branches !== undefined && follows !== undefined && (branch === undefined || !isFollowed(branch, follows));
    const group = isOther ? `branch ${branch ?? ''}` : '';
    const count = (counted.get(`${environment} ${component} ${group}`) ?? 0) + 1;
    counted.set(`${environment} ${component} ${group}`, count);
    const key = `${environment} ${digest}`;
    const most = isOther ? keep.branches : keep.releases;
    if (most !== undefined && count <= most) {
      add(reasons, key, { why: isOther ? 'branches' : 'releases', environment });
    }
    if (keep.for !== undefined && ageOf(at, now) < keep.for) {
      add(reasons, key, { why: 'time', environment });
    }
  }
  return reasons;
}

/** Versions that environments have served after others, by each of those and the digest. */
function releasedLater(
  history: ContentHistory,
  environments: readonly KeepingEnvironment[],
): Map<string, StayReason[]> {
  const before = new Map(environments.map((each) => [each.name, each.before]));
  const reasons = new Map<string, StayReason[]>();
  for (const { environment, digest, version, served } of history.stays.values()) {
    if (served && version !== undefined) {
      for (const earlier of before.get(environment) ?? []) {
        add(reasons, `${earlier} ${digest}`, { why: 'released', environment, version });
      }
    }
  }
  return reasons;
}

function add(reasons: Map<string, StayReason[]>, key: string, reason: StayReason): void {
  const known = reasons.get(key);
  if (known === undefined) {
    reasons.set(key, [reason]);
  } else if (!known.some((each) => isSameReason(each, reason))) {
    known.push(reason);
  }
}

function isSameReason(a: StayReason, b: StayReason): boolean {
  return JSON.stringify(a) === JSON.stringify(b);
}

/** How long ago something was, in milliseconds. */
function ageOf(at: Timestamp, now: Timestamp): number {
  return Date.parse(now) - Date.parse(at);
}

/** Whether something is needed, whatever hod.yaml says. */
export function isNeed({ why }: StayReason): boolean {
  return ['served', 'tag', 'rollback', 'withdrawn'].includes(why);
}
