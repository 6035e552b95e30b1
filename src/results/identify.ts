import * as z from 'zod';
import type { CommitReach } from '../core/identify/reach';
import { reachStates } from '../core/identify/reach';
import { standings, type EnvironmentStanding } from '../core/identify/standing';
import { verdictIn, isAllServed, verdicts, type FoundMention } from '../core/identify/verdict';
import type { ToldRelease } from '../core/identify/identity';
import { digestRoles } from '../core/ledger/facts';
import type { IdentifiedCommit } from '../inspect/commit-reach';
import type { RecordedReference } from '../inspect/identify-records';
import type { LookedThrough } from '../inspect/identify-within';
import { digest, gateResult, toGateResult } from './common';

const position = z.strictObject({ version: z.string().nullable(), commit: z.string() });
const withdrawal = z.strictObject({ by: z.string(), at: z.string(), reason: z.string() }).nullable();

const releaseFields = {
  version: z.string().nullable(),
  commit: z.string(),
  branch: z.string().nullable(),
  /** The number that the CI gave to the build, and where its run can be looked at. */
  build: z.string().nullable(),
  run: z.string().nullable(),
  published: z.string(),
  by: z.string(),
};

const standingResult = z.strictObject({
  environment: z.string(),
  component: z.string(),
  /**
   * `current`: the environment serves it; `behind`: it did, or it was the newest of a line; `withdrawn`: it was rolled back there;
   * `held`: it came in when something newer was there already; `never`: it was never released there.
   */
  state: z.enum(standings),
  /** The line or branch that it is the newest of, or was, where that is beside what the environment serves by its own tags. */
  line: z.string().nullable(),
  /** The release that it came with. */
  release: position.nullable(),
  since: z.string().nullable(),
  until: z.string().nullable(),
  /** What the environment serves of the component now, or on that line. */
  serves: position.nullable(),
  /** How far it is behind; null where that is not known. */
  releasesBehind: z.number().int().nullable(),
  commitsBehind: z.number().int().nullable(),
  withdrawn: withdrawal,
});

export const foundResult = z.strictObject({
  /** The product that knows it; null where none does. */
  product: z.string().nullable(),
  /** The reference, the digest or the digits that were recognised; nothing else of the text. */
  text: z.string(),
  /** How often. */
  times: z.number().int(),
  /** What it is; null where the ledger does not know it, or digits are those of several digests. */
  is: z.enum([...digestRoles, 'layer']).nullable(),
  digest: digest.nullable(),
  /** The digests that begin with digits which several have. */
  candidates: z.array(digest),
  /** `os/arch[/variant]` of an image or a config. */
  platform: z.string().nullable(),
  /** The artifact type of a referrer. */
  type: z.string().nullable(),
  /** The environments whose repository the reference names; null where it names none of the product. */
  repositoryOf: z.array(z.string()).nullable(),
  /** Of a reference by a tag of the product: whether the tag moves, and what leads somewhere today may have led elsewhere. */
  tag: z.enum(['fixed', 'moving', 'gone']).nullable(),
  components: z.array(
    z.strictObject({
      component: z.string(),
      digest,
      /** The latest first; of more than sixteen, the latest and the first. */
      releases: z.array(
        z.strictObject({
          ...releaseFields,
          /** Null where a release record tells of it: those do not say. */
          by: z.string().nullable(),
        }),
      ),
      count: z.number().int(),
    }),
  ),
  environments: z.array(standingResult),
  /** Who removed it from the repository that the reference names with `hod tidy`, or is at it; null where nobody did. */
  removed: z
    .strictObject({ state: z.enum(['removing', 'removed']), by: z.string(), at: z.string(), rule: z.string() })
    .nullable(),
  /** Whether a release record in the registry tells it, and no ledger: anyone who can push there can forge one. */
  byRecord: z.boolean(),
  /** What it is to the environment that --in names; null without that. */
  verdict: z.enum(verdicts).nullable(),
});

const commitResult = z.strictObject({
  text: z.string(),
  product: z.string(),
  commit: z.string(),
  author: z.string().nullable(),
  at: z.string().nullable(),
  subject: z.string().nullable(),
  /** The commits that repeat it on other branches. */
  picks: z.array(z.strictObject({ commit: z.string(), by: z.enum(['changes', 'message']) })),
  /** For each component, the first release that contains it. */
  first: z.array(z.strictObject({ components: z.array(z.string()), ...releaseFields })),
  environments: z.array(
    z.strictObject({
      environment: z.string(),
      component: z.string(),
      /** `in`: what is served contains it; `was-in`: it did; `not-in`: never so far; `unknown`: git here cannot tell. */
      state: z.enum(reachStates),
      line: z.string().nullable(),
      serves: position,
      /** The release that brought it. */
      release: position.nullable(),
      since: z.string().nullable(),
      withdrawn: withdrawal,
    }),
  ),
  /** For each environment that it waits for: the rules that say no. */
  waiting: z.array(
    z.strictObject({
      environment: z.string(),
      unmet: z.array(gateResult),
    }),
  ),
  /** Git here lacks commits: what was not found may be there. */
  incomplete: z.boolean(),
});

export const identifyResultSchema = z.strictObject({
  /** The products that were asked: one, or all that --config matches. */
  products: z.array(z.string()),
  /** The environment that everything is to be served by, as --in says; null without that. */
  in: z.string().nullable(),
  /** Whether all that was found is what that environment serves; null without --in. */
  allServed: z.boolean().nullable(),
  /** Whether there was more than is looked up. */
  overflowed: z.boolean(),
  /**
   * Digests that the ledger does not know were looked for among the layers and configs of so many components: of what environments
   * serve, and of the latest releases. Null where none had to be.
   */
  lookedThrough: z
    .strictObject({
      components: z.number().int(),
      unread: z.array(z.strictObject({ object: z.string(), why: z.string() })),
    })
    .nullable(),
  found: z.array(foundResult),
  commits: z.array(commitResult),
});
export type IdentifyResult = z.infer<typeof identifyResultSchema>;
export type FoundResult = IdentifyResult['found'][number];
export type CommitResult = IdentifyResult['commits'][number];

/** What is answered to the question what things are. */
export interface IdentifyAnswer {
  readonly products: readonly string[];
  readonly environment: string | undefined;
  readonly overflowed: boolean;
  /** Of each product that had to be looked through. */
  readonly looked: readonly LookedThrough[];
  readonly found: readonly FoundInProduct[];
  readonly commits: readonly (IdentifiedCommit & { readonly text: string; readonly product: string })[];
}

/** A mention that a product was asked about. */
export interface FoundInProduct {
  readonly product: string;
  readonly found: FoundMention;
  readonly commitsBehind: (standing: EnvironmentStanding) => number | undefined;
}

/** What things are, as a document. */
export function toIdentifyResult(answer: IdentifyAnswer): IdentifyResult {
  const { products, environment, overflowed, looked, found, commits } = answer;
  const isServed = (name: string): boolean =>
    !overflowed &&
    isAllServed(
      found.map((each) => each.found),
      name,
    );
  return {
    products: [...products],
    in: environment ?? null,
    allServed: environment === undefined ? null : isServed(environment),
    overflowed,
    lookedThrough:
      looked.length === 0
        ? null
        : {
            components: looked.reduce((sum, { components }) => sum + components, 0),
            unread: looked.flatMap(({ unread }) => unread),
          },
    found: found.map((each) => toFound(each, environment)),
    commits: commits.map(toCommit),
  };
}

/** What references are by the release records in their registries, as a document. */
export function toRecordedResult(all: readonly RecordedReference[]): IdentifyResult {
  return {
    products: [...new Set(all.flatMap(({ records }) => records.map(({ product }) => product)))],
    ...{ in: null, allServed: null, overflowed: false, lookedThrough: null, commits: [] },
    found: all.map(toRecorded),
  };
}

function toRecorded({ mention: { text }, digest: of, records }: RecordedReference): FoundResult {
  const names = new Set(records.flatMap(({ components }) => namesIn(components, of)));
  return {
    product: records[0]?.product ?? null,
    ...{ text, times: 1, digest: of, candidates: [], platform: null, type: null },
    is: records.length === 0 ? null : 'component',
    components: [...names].map((component) => {
      const own = records.filter(({ components }) => namesIn(components, of).includes(component));
      return {
        component,
        digest: of,
        releases: own.map((each) => toRelease({ ...each, at: each.published, by: null })),
        count: own.length,
      };
    }),
    ...{ repositoryOf: null, tag: null, environments: [], removed: null, byRecord: true, verdict: null },
  };
}

function namesIn(components: RecordedReference['records'][number]['components'], of: string): string[] {
  return components.filter((each) => each.digest === of).map(({ component }) => component);
}

/** What a mention was found to be, as documents have it. */
export function toFound(
  { product, found, commitsBehind }: FoundInProduct,
  environment: string | undefined,
): FoundResult {
  const { mention, times, identified, at, tag, removed } = found;
  const identity = identified.kind === 'known' ? identified.identity : undefined;
  return {
    product: isOwn(found) ? product : null,
    ...{ text: mention.text, times },
    is: identity?.is ?? null,
    digest: identity?.digest ?? mention.digest ?? null,
    candidates: identified.kind === 'ambiguous' ? [...identified.digests] : [],
    platform: identity?.platform ?? null,
    type: identity?.type ?? null,
    repositoryOf: at === undefined ? null : [...new Set(at.map((place) => place.environment))],
    tag: tag === undefined ? null : tag.gone ? 'gone' : tag.kind,
    components: (identity?.components ?? []).map(({ component, digest: own, releases, count }) => {
      return { component, digest: own, releases: releases.map(toRelease), count };
    }),
    environments: found.standings.map((each) => toStanding(each, commitsBehind)),
    removed:
      removed === undefined ? null : { state: removed.state, by: removed.by, at: removed.at, rule: removed.keep },
    byRecord: false,
    verdict: environment === undefined ? null : verdictIn(found, environment),
  };
}

/** Whether a product has something to say of a mention. */
export function isOwn({ identified, at }: FoundMention): boolean {
  return identified.kind !== 'unknown' || at !== undefined;
}

function toRelease<By extends string | null>({
  version,
  commit,
  branch,
  build,
  run,
  at,
  by,
}: Omit<ToldRelease, 'release' | 'by'> & { readonly by: By }) {
  return {
    ...{ version: version ?? null, commit, branch: branch ?? null, build: build ?? null, run: run ?? null },
    ...{ published: at, by },
  };
}

function toStanding(
  standing: EnvironmentStanding,
  commitsBehind: FoundInProduct['commitsBehind'],
): FoundResult['environments'][number] {
  const { environment, component, state, line, release, since, until, serves, releasesBehind, withdrawn } = standing;
  return {
    ...{ environment, component, state },
    line: line ?? null,
    release: toPosition(release),
    since: since ?? null,
    until: until ?? null,
    serves: toPosition(serves),
    releasesBehind: releasesBehind ?? null,
    commitsBehind: state === 'current' ? 0 : (commitsBehind(standing) ?? null),
    withdrawn: withdrawn ?? null,
  };
}

function toPosition(of: EnvironmentStanding['release']) {
  return of === undefined ? null : { version: of.version ?? null, commit: of.commit };
}

function toCommit(of: IdentifyAnswer['commits'][number]): CommitResult {
  const { text, product, commit, told, picks, first, reaches, waiting, incomplete } = of;
  return {
    ...{ text, product, commit, incomplete },
    ...{ author: told?.author ?? null, at: told?.at ?? null, subject: told?.subject ?? null },
    picks: picks.map(({ commit: pick, by }) => ({ commit: pick, by })),
    first: first.map(({ release, components }) => ({ components: [...components], ...toRelease(release) })),
    environments: reaches.map(toReach),
    waiting: waiting.map(({ environment, unmet }) => ({ environment, unmet: unmet.map(toGateResult) })),
  };
}

function toReach(reach: CommitReach): CommitResult['environments'][number] {
  const { environment, component, state, line, serves, release, since, withdrawn } = reach;
  return {
    ...{ environment, component, state, line: line ?? null },
    serves: { version: serves.version ?? null, commit: serves.commit },
    release: toPosition(release),
    since: since ?? null,
    withdrawn: withdrawn ?? null,
  };
}
