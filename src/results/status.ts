import * as z from 'zod';
import { driftStates } from '../core/insight/drift';
import type { Running } from '../core/identify/running';
import { verdicts } from '../core/identify/verdict';
import { expiringKinds } from '../core/insight/expiring';
import type { EnvironmentStatus, ProductStatus, ServedStatus } from '../inspect/status';
import { shareReasons, type RepositoryGrowth } from '../core/tidy/growth';
import { digest, gateResult, includedResult, toGateResult, toIncludedResult } from './common';

/** What waits to come into an environment: what the one before serves, and it does not. */
const waitingResult = z.strictObject({
  components: z.array(z.string()),
  /** Those that took over in the environment before and never came here, the newest first, each with the time since when it waits. */
  releases: z.array(z.strictObject({ version: z.string().nullable(), commit: z.string(), since: z.string() })),
  /** There are more releases than those. */
  more: z.boolean(),
  /** Those that are the newest of a line in the environment before, beside what that serves, and never came here. */
  lines: z.array(
    z.strictObject({ line: z.string(), version: z.string().nullable(), commit: z.string(), since: z.string() }),
  ),
  /** How many commits they are; null where git does not know. */
  commits: z.number().int().nullable(),
  /** The rules that say no now, as far as ledger and clock decide. */
  unmet: z.array(gateResult.extend({ of: z.string() })),
});

/** What a text says that runs. */
const runningResult = z.strictObject({
  verdict: z.enum(verdicts),
  version: z.string().nullable(),
  commit: z.string().nullable(),
  /** The reference or digest that was recognised, and how often. */
  text: z.string(),
  times: z.number().int(),
});

/** What is served, since when, who brought it, and whether the registry agrees. */
const servedFields = {
  version: z.string().nullable(),
  commit: z.string(),
  digest,
  since: z.string(),
  /** It was served before the ledger began, and `since` is when that was recorded. */
  adopted: z.boolean(),
  by: z.string(),
  drift: z.strictObject({ state: z.enum(driftStates), detail: z.string() }),
};

export const statusResultSchema = z.strictObject({
  /** Who is told of what happens, and what each was not told yet; counted through a thousand entries. */
  announcements: z.array(
    z.strictObject({ receiver: z.string(), undelivered: z.number().int(), since: z.string().nullable() }),
  ),
  product: z.string(),
  /** The record that this was read from, and how many entries it has. */
  ledger: z.strictObject({ place: z.string(), entries: z.number().int() }),
  /** Whether every tag was asked about, or one of each component: the one that tells the most. */
  everyTag: z.boolean(),
  environments: z.array(
    z.strictObject({
      environment: z.string(),
      /** The one that its releases come from; null for the first. */
      after: z.string().nullable(),
      /** Why its registry could not be asked; null where it answers. */
      silent: z.string().nullable(),
      waiting: waitingResult.nullable(),
      /** What --running says that runs, and is of no component that the ledger knows; null without that. */
      runsBeside: z
        .array(z.strictObject({ text: z.string(), verdict: z.enum(verdicts), times: z.number().int() }))
        .nullable(),
      components: z.array(
        z.strictObject({
          component: z.string(),
          repository: z.string(),
          included: includedResult,
          ...servedFields,
          /** What --running says that runs of it; null without that. */
          runs: z.array(runningResult).nullable(),
          /** The newest of its lines of versions and followed branches to which a moving tag leads, beside that. */
          lines: z.array(z.strictObject({ line: z.string(), ...servedFields })),
        }),
      ),
    }),
  ),
  /** What environments ask for and soon counts no more, or counts no more already: what ends first comes first. */
  expiring: z.array(
    z.strictObject({
      kind: z.enum(expiringKinds),
      /** The environment that asks for it; null of a key. */
      environment: z.string().nullable(),
      /** The name of the result or the key, the id of the finding that an exception is for. */
      name: z.string(),
      /** Of a result: the version or commit that it is about. */
      of: z.string().nullable(),
      until: z.string(),
      isOver: z.boolean(),
    }),
  ),
  /** What the images were built on, where they say so; null where it was not asked for. */
  bases: z
    .array(
      z.strictObject({
        environment: z.string(),
        component: z.string(),
        version: z.string().nullable(),
        commit: z.string(),
        platform: z.string(),
        name: z.string(),
        /** What it was when the image was built. */
        digest: z.string(),
        /** What its name leads to now; null where it leads to nothing, or that is not known. */
        now: z.string().nullable(),
        state: z.enum(['current', 'moved', 'unknown']),
        detail: z.string(),
      }),
    )
    .nullable(),
  /** How much repositories hold, and why; null where it was not asked for. */
  growth: z
    .array(
      z.strictObject({
        repository: z.string(),
        components: z.array(z.string()),
        /** What the ledger says is there. */
        digests: z.number().int(),
        /** Null where the registry was not asked, or did not answer. */
        bytes: z.number().nullable(),
        /** Why it is there: what is needed the most first, and what `hod tidy` would remove last. What several share counts for the first. */
        shares: z.array(
          z.strictObject({
            why: z.enum(shareReasons),
            environment: z.string().nullable(),
            digests: z.number().int(),
            bytes: z.number().nullable(),
          }),
        ),
        /** What came and went by week, each by its Monday (UTC); weeks without either are left out. */
        weeks: z.array(z.strictObject({ week: z.string(), added: z.number().int(), removed: z.number().int() })),
      }),
    )
    .nullable(),
});
export type StatusResult = z.infer<typeof statusResultSchema>;

/** What environments serve, as a document. */
export function toStatusResult(
  { environments, expiring, bases, announcements, ...status }: ProductStatus,
  running: readonly Running[],
  growth?: readonly RepositoryGrowth[],
): StatusResult {
  return {
    ...status,
    environments: environments.map((each) =>
      toEnvironment(
        each,
        running.find(({ environment }) => environment === each.environment),
      ),
    ),
    expiring: expiring.map((each) => ({ ...each, environment: each.environment ?? null, of: each.of ?? null })),
    bases: bases?.map((each) => ({ ...each, version: each.version ?? null, now: each.now ?? null })) ?? null,
    announcements: [...announcements],
    growth: growth === undefined ? null : growth.map(toGrowth),
  };
}

/** How much a repository holds, as documents tell it. */
export function toGrowth({
  bytes,
  components,
  shares,
  weeks,
  ...growth
}: RepositoryGrowth): NonNullable<StatusResult['growth']>[number] {
  return {
    ...growth,
    components: [...components],
    bytes: bytes ?? null,
    shares: shares.map((each) => ({ ...each, environment: each.environment ?? null, bytes: each.bytes ?? null })),
    weeks: weeks.map((each) => ({ ...each })),
  };
}

function toEnvironment(status: EnvironmentStatus, running: Running | undefined): StatusResult['environments'][number] {
  const { environment, after, silent, components, lines, waiting } = status;
  return {
    environment,
    after: after ?? null,
    silent: silent ?? null,
    waiting: waiting === undefined ? null : toWaiting(waiting),
    runsBeside: running === undefined ? null : running.others.map((each) => ({ ...each })),
    components: components.map((each) => {
      const { component, repository, included } = each.served;
      const own = lines.filter(({ served }) => served.component === component);
      return {
        component,
        repository,
        included: toIncludedResult(included),
        ...toServed(each),
        runs: running === undefined ? null : runsOf(component, running),
        lines: own.map(({ line, ...beside }) => ({ line, ...toServed(beside) })),
      };
    }),
  };
}

function runsOf(component: string, { components }: Running): z.infer<typeof runningResult>[] {
  return components
    .filter((each) => each.component === component)
    .map(({ verdict, version, commit, text, times }) => {
      return { verdict, version: version ?? null, commit: commit ?? null, text, times };
    });
}

function toServed({ served, drift: { state, detail } }: ServedStatus) {
  const { version, commit, digest: now, since, by, adopted } = served;
  const release = { version: version ?? null, commit };
  return { ...release, digest: now, since, adopted: adopted === true, by, drift: { state, detail } };
}

function toWaiting({ of, commits }: NonNullable<EnvironmentStatus['waiting']>): z.infer<typeof waitingResult> {
  const { components, releases, lines, more, gates } = of;
  return {
    components: [...components],
    releases: releases.map(({ version, commit, since }) => ({ version: version ?? null, commit, since })),
    more,
    lines: lines.map(({ line, version, commit, since }) => ({ line, version: version ?? null, commit, since })),
    commits: commits ?? null,
    unmet: gates.map((gate) => ({ ...toGateResult(gate), of: gate.of })),
  };
}
