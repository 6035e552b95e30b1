import { commitSchema, type CommitId } from '../../src/core/commit';
import { sha256 } from '../../src/core/oci/digest';
import { formatRepository } from '../../src/core/oci/reference';
import type { Action } from '../../src/core/ledger/entries';
import { emptyHead, entryAfter, headAfter, type Head } from '../../src/core/ledger/entry';
import { figuresOf, ReleaseHistory, type ReleaseLife } from '../../src/core/insight/figures';
import { contentId, releaseId, type PlacedComponent } from '../../src/core/ledger/release';
import { eventIn, type TimelineEvent } from '../../src/core/insight/timeline';
import { parseVersion, type Version } from '../../src/core/tags/version';
import { timestampOf, type Timestamp } from '../../src/core/time';
import { ContentHistory } from '../../src/core/tidy/content-history';
import { decideReasons, planContent } from '../../src/core/tidy/content-plan';
import { growthOf } from '../../src/core/tidy/growth';
import { toGrowth } from '../../src/results/status';
import { toEvent } from '../../src/results/timeline';
import { toBoardRelease, toFigures, type BoardData } from '../../src/results/board';

const product = 'skerry-line';
const environments = ['dev', 'uat', 'prod'] as const;
const people = ['una', 'ole', 'siv', 'finn'];
const [minute, hour, day] = [60_000, 3_600_000, 86_400_000];

/** The same numbers each time, from 0 to 1. */
function numbers(seed: number): () => number {
  let state = seed;
  return () => {
    state = (Math.imul(state, 1_664_525) + 1_013_904_223) >>> 0;
    return state / 2 ** 32;
  };
}

/** Something that happened. */
interface Happening {
  readonly at: number;
  readonly actor: string;
  readonly action: Action;
}

/**
 * What a page shows of a product that was released for a while: most releases come to uat after some hours, some of those to prod
 * after days, and a few are taken back.
 */
export function madeUpBoard(count: { components: number; releases: number; days: number }, now: Date): BoardData {
  const next = numbers(7);
  const services = ['timetable', 'boarding-gate', 'tide-watch', 'ticket-office', 'harbour-lights', 'fare-tables'];
  const names = Array.from({ length: count.components }, (_, at) => services[at] ?? `pier-${at + 1}`);
  const committed = new Map<CommitId, Timestamp>();
  const happenings: Happening[] = [];
  const begin = now.getTime() - count.days * day;
  const versions: Version[] = [];
  /** Each release changes a few. */
  const changed = names.slice(0, 3);
  const componentsOf = (environment: string, at: number) =>
    changed.map((component) => ({
      component,
      repository: formatRepository({ registry: `${environment}.skerry.test`, name: `skerry/${component}` }),
      digest: sha256(`${component} ${at}`),
      mediaType: 'm',
      size: 1000,
      platforms: ['linux/amd64', 'linux/arm64'],
    }));
  for (let at = 0; at < count.releases; at += 1) {
    const commit = commitSchema.parse(sha256(`commit ${at}`).slice(7, 47));
    const version = parseVersion(`${2 + Math.floor(at / 200)}.${Math.floor(at / 10) % 20}.${at % 10}`);
    versions.push(version);
    const made = begin + ((count.days * day) / count.releases) * (at + 0.3 * next());
    committed.set(commit, timestampOf(new Date(made)));
    const components = componentsOf('dev', at);
    const release = releaseId({ product, commit, version, components });
    const arrival = (environment: string) => ({
      ...{ release, commit, version, branch: 'main', environment, components: componentsOf(environment, at) },
      tags: [],
      arrivals: changed.map((component) => ({ component, way: 'takes-over' as const, lanes: [], tagged: [] })),
    });
    const staged = made + (4 + 6 * next()) * minute;
    const published = staged + (0.5 + 3 * next()) * minute;
    const parts = components.slice(0, 2);
    happenings.push({ at: staged, actor: 'ci', action: { kind: 'staged', commit, environment: 'dev', parts } });
    happenings.push({ at: published, actor: 'ci', action: { kind: 'published', ...arrival('dev') } });
    if (at % tidiedEach === 0 && at >= 2 * tidiedEach) {
      happenings.push({ at: published + hour, actor: 'ci', action: tidying(at - 2 * tidiedEach, componentsOf) });
    }
    if (next() < 0.6) {
      const tested = published + (1 + 9 * next()) * hour;
      const actor = people[at % people.length] ?? '';
      happenings.push({ at: tested, actor, action: { kind: 'promoted', from: 'dev', ...arrival('uat') } });
      if (next() < 0.5) {
        const served = tested + (18 + 60 * next()) * hour;
        happenings.push({ at: served, actor, action: { kind: 'promoted', from: 'uat', ...arrival('prod') } });
        if (next() < 0.08) {
          const withdrawn = [{ release, content: contentId(components) }];
          const reason = 'turnstiles stay shut';
          const nothing = { back: 1, releases: [], served: [], lanes: [], tags: [] };
          const action = { kind: 'rolled-back' as const, environment: 'prod', reason, withdrawn, ...nothing };
          happenings.push({ at: served + (1 + 5 * next()) * hour, actor: 'ole', action });
        }
      }
    }
  }
  const history = new ReleaseHistory();
  const content = new ContentHistory();
  const events: TimelineEvent[] = [];
  let head: Head = emptyHead;
  for (const { at, actor, action } of happenings
    .filter((each) => each.at <= now.getTime())
    .sort((a, b) => a.at - b.at)) {
    const sealed = entryAfter(head, { product, at: timestampOf(new Date(at)), actor, action });
    head = headAfter(sealed);
    history.add(sealed);
    content.add(sealed);
    const event = eventIn(sealed);
    events.push(...(event === undefined ? [] : [event]));
  }
  const releases = [...history.releases.values()];
  const sizes = names.slice(0, 6).map((component, place) => ({
    component,
    points: versions.slice(-20).map((version, at) => {
      return { version, bytes: Math.round((20 + 18 * place + at * (place % 3) + 3 * next()) * 1e6) };
    }),
  }));
  return {
    product,
    written: timestampOf(now),
    ledger: { place: '.hod/ledger.db', entries: head.seq },
    asked: true,
    environments: environments.map((environment, place) => statusOf(environment, place, releases, names)),
    announcements: [{ receiver: 'board', undelivered: 0, since: null }],
    expiring: [],
    releases: releases.map((each, at) => {
      const pulls = each.arrivals.flatMap(({ environment }) =>
        each.components.map(({ component, digest }) => {
          return { environment, component, reference: `${environment}.skerry.test/skerry/${component}@${digest}` };
        }),
      );
      const isLate = at >= releases.length - 200;
      return toBoardRelease(each, { committed: committed.get(each.commit), pulls: isLate ? pulls : undefined });
    }),
    figures: toFigures(figuresOf(history, environments, committed)),
    sizes,
    growth: growthIn(content, now),
    more: false,
    events: events.reverse().map((each) => toEvent(each, new Map())),
  };
}

/** What is kept; prod keeps everything. */
const keep = { dev: { releases: 30 }, uat: { releases: 20 }, prod: undefined };
const tidiedEach = 30;

/** Tidying of the releases from one on. */
function tidying(
  from: number,
  componentsOf: (environment: string, at: number) => Pick<PlacedComponent, 'component' | 'repository' | 'digest'>[],
): Action {
  const gone = Array.from({ length: tidiedEach }, (_, at) => componentsOf('dev', from + at)).flat();
  return {
    kind: 'removed',
    claim: 1,
    environments: [{ environment: 'dev', keep: '30 releases' }],
    contents: gone.map(({ component, repository, digest }) => {
      return { repository, digest, components: [component], releases: [], removed: [digest], left: [], tags: [] };
    }),
  };
}

/** How much repositories hold, and why. */
function growthIn(history: ContentHistory, now: Date): BoardData['growth'] {
  const rules = environments.map((name, place) => {
    const kept = keep[name] && { for: undefined, branches: undefined, rollbacks: 3, ...keep[name] };
    return { name, keep: kept, follows: undefined, before: environments.slice(0, place) };
  });
  const question = { history, environments: rules, needed: [], others: new Map(), now: timestampOf(now) };
  const reasons = decideReasons({ ...question, versions: false });
  const plans = planContent([...history.placed.keys()], question, reasons);
  return plans.map((plan) => toGrowth(growthOf(plan, history.weeksOf(plan.repository), undefined)));
}

/** What an environment serves: its latest release, and of one image the one before. */
function statusOf(
  environment: string,
  place: number,
  releases: readonly ReleaseLife[],
  names: readonly string[],
): BoardData['environments'][number] {
  const here = releases.filter(
    ({ arrivals, withdrawn }) =>
      arrivals.some((each) => each.environment === environment) &&
      !withdrawn.some((each) => each.environment === environment),
  );
  const [now, before] = [here.at(-1), here.at(-2)];
  const components = names.flatMap((component, at) => {
    const served = at === 2 && place === 2 ? before : now;
    const since = served?.arrivals.find((each) => each.environment === environment)?.at;
    if (served === undefined || since === undefined) {
      return [];
    }
    const { version = null, commit } = served;
    const drift = { state: 'none' as const, detail: '' };
    const repository = `${environment}.skerry.test/skerry/${component}`;
    return [
      {
        component,
        repository,
        included: null,
        version,
        commit,
        digest: sha256(`${component} ${commit}`),
        since,
        adopted: false,
        by: 'una',
        drift,
        runs: null,
        lines: [],
      },
    ];
  });
  const after = environments[place - 1] ?? null;
  const waits = releases
    .slice(-30)
    .filter(({ arrivals }) => arrivals.length === place)
    .reverse()
    .slice(0, 3);
  const waiting =
    after === null
      ? null
      : {
          components: [...names],
          releases: waits.map(({ version = null, commit, arrivals }) => {
            return { version, commit, since: arrivals[0]?.at ?? '' };
          }),
          more: false,
          lines: [],
          commits: 11,
          unmet:
            place === 2
              ? [
                  {
                    gate: 'sign-offs',
                    outcome: 'unmet' as const,
                    detail: '1 of 2 signed off: siv',
                    remedy: null,
                    of: waits[0]?.version ?? '',
                  },
                ]
              : [],
        };
  return { environment, after, silent: null, waiting, runsBeside: null, components };
}
