import type { PackResult } from '../../src/results/pack';
import type { UnpackResult } from '../../src/results/unpack';
import type { CarryResult } from '../../src/results/carry';
import type { AdoptResult } from '../../src/results/adopt';
import type { AnnounceResult } from '../../src/results/announce';
import type { AssembleResult } from '../../src/results/assemble';
import type { ConfigCheckResult, ConfigCompareResult, ConfigShowResult } from '../../src/results/config';
import type { LedgerAcceptResult, LedgerCompactResult, LedgerCopyResult, LedgerResult } from '../../src/results/ledger';
import type { RebuildResult } from '../../src/results/rebuild';
import type { ResultResult, RulesResult } from '../../src/results/record';
import type { SandboxResult } from '../../src/results/sandbox';
import type { TouchedResult } from '../../src/results/touched';
import type { AccessResult, StoredLoginsResult } from '../../src/results/access';
import type { CompareResult } from '../../src/results/compare';
import type { DeliveredResult } from '../../src/results/delivery';
import type { IdentifyResult } from '../../src/results/identify';
import type { InitResult } from '../../src/results/init';
import type { InsideResult } from '../../src/results/inside';
import type { PointResult } from '../../src/results/point';
import type { PromoteResult } from '../../src/results/promote';
import type { ProveResult } from '../../src/results/prove';
import type { PublishResult } from '../../src/results/publish';
import type { RollbackResult } from '../../src/results/rollback';
import type { ShowResult } from '../../src/results/show';
import type { StageResult } from '../../src/results/stage';
import type { StatusResult } from '../../src/results/status';
import type { RepositoriesResult, TagsResult } from '../../src/results/tags';
import type { TidyResult } from '../../src/results/tidy';
import type { TidyHereResult } from '../../src/results/tidy-here';
import type { TimelineResult } from '../../src/results/timeline';

/** Documents as commands answer with them, of so many images, the same each time. */

const digest = (of: number): string => `sha256:${of.toString(16).padStart(4, '0').repeat(16)}`;
const commit = (of: number): string => of.toString(16).padStart(4, 'a').repeat(10);
const at = (hour: number): string =>
  `2026-11-${String(20 + Math.floor(hour / 24)).padStart(2, '0')}T${String(hour % 24).padStart(2, '0')}:30:00.000Z`;
/** The moment at which all this is looked at. */
export const now = new Date('2026-11-26T12:00:00Z');

const product = 'skerry-line';
const platforms = ['linux/amd64', 'linux/arm64'];
const names = (count: number): string[] =>
  Array.from(
    { length: count },
    (_, place) => ['timetable', 'boarding-gate', 'tide-watch'][place] ?? `pier-${place + 1}`,
  );
const repository = (environment: string, component: string): string =>
  `${environment}.registry.test/skerry/${component}`;
const transfer = { blobsSent: 2, blobsMounted: 0, blobsPresent: 5, bytesSent: 48_200_000, requests: 12 };
const content = (component: string, environment: string, of: number) => ({
  ...{
    component,
    kind: 'image' as const,
    artifactType: null,
    repository: repository(environment, component),
    digest: digest(of),
    platforms,
  },
  mediaType: 'application/vnd.oci.image.index.v1+json',
});

type TagOf = DeliveredResult['tags'][number];
const tag = (name: string, outcome: TagOf['outcome'], reason = ''): TagOf => ({
  ...{
    tag: name,
    kind: /^\d+\.\d+\.\d+/.test(name) ? 'fixed' : 'moving',
    platform: null,
    outcome,
    reason,
    drift: null,
  },
});

/** Of every seven images one is held, and of every three one is as it was. */
function delivered(count: number, environment: string): DeliveredResult[] {
  return names(count).map((component, place) => {
    const held = place % 7 === 5;
    const outcome = held ? 'held' : place % 3 === 2 ? 'unchanged' : 'moved';
    return {
      ...content(component, environment, place + 1),
      included: null,
      way: held ? 'held' : 'takes-over',
      wayReason: held ? '2.5.1 is there, which is newer' : 'it comes after 2.4.0',
      sameCommit: false,
      serves: held ? '2.5.1' : '2.5.0',
      tags: [
        tag('2.5.0', outcome === 'moved' ? 'created' : 'unchanged', 'it is there'),
        tag('latest', outcome, outcome === 'held' ? '2.5.1 is there, which is newer' : 'it comes after 2.4.0'),
      ],
      omitted: [],
      referrers: { brought: place === 0 ? 2 : 0, present: 1, left: [] },
      transfer,
    };
  });
}

export const published = (count: number): PublishResult => ({
  ...{ product, version: '2.5.0', commit: commit(7), branch: 'main', build: '118', environment: 'dev', dryRun: false },
  versioning: { outcome: 'next', reason: 'the next minor version after 2.4.0, which the ledger knows' },
  gates: [],
  retires: ['winter-fares'],
  renames: [],
  moved: null,
  leftovers: [],
  gitTag: null,
  components: delivered(count, 'dev'),
  next: [{ command: 'hod promote uat', does: 'brings it to uat, through its gates' }],
});

export const promoted = (count: number): PromoteResult => ({
  ...{ product, version: '2.5.0', commit: commit(7), from: 'uat', to: 'prod', dryRun: false },
  retires: [],
  renames: [],
  moved: null,
  gates: [
    {
      gate: 'result smoke',
      outcome: 'met',
      detail: 'passed in uat; ci recorded the result on 2026-11-19 09:00 UTC (7 h ago)',
      remedy: null,
      of: '2.5.0',
    },
    {
      gate: 'soak',
      outcome: 'met',
      detail: 'uat has served 2.5.0 since 2026-11-18 09:00 UTC (1 d ago); prod requires 1 d',
      remedy: null,
      of: '2.5.0',
    },
  ],
  components: delivered(count, 'prod').map((component) => ({
    ...component,
    version: '2.5.0',
    commit: commit(7),
    sourceRepository: repository('uat', component.component),
  })),
  next: [],
});

/** What a promotion is refused with, rehearsed. */
export const notPromoted = (count: number): PromoteResult => ({
  ...promoted(count),
  dryRun: true,
  gates: [
    {
      ...{
        gate: 'sign-offs',
        outcome: 'unmet',
        detail: '1 of 2 signed off: siv; that of una does not count, who published it',
        of: '2.5.0',
      },
      remedy: 'let one more person run `hod record sign-off --for prod --version 2.5.0`',
    },
  ],
});

export const staged = (count: number): StageResult => ({
  ...{ product, commit: commit(7), environment: 'dev', dryRun: false },
  components: names(count).map((component, place) => ({
    ...content(component, 'dev', place + 1),
    outcome: place % 3 === 2 ? 'unchanged' : 'staged',
    transfer,
  })),
  missing: [{ component: 'boarding-gate', missing: ['linux/arm/v7'] }],
});

export const rolledBack = (count: number): RollbackResult => ({
  ...{ product, environment: 'prod', line: null, reason: 'turnstiles stay shut', dryRun: false, requests: 14 * count },
  withdrawn: [{ version: '2.5.0', commit: commit(7) }],
  components: names(count).map((component, place) => ({
    ...{
      component,
      repository: repository('prod', component),
      digest: place === 1 ? null : digest(place + 100),
      changed: true,
    },
    ...{ version: place === 1 ? null : '2.4.0', commit: place === 1 ? null : commit(4) },
    tags: [tag('latest', place === 1 ? 'removed' : 'moved', 'back to 2.4.0, was 2.5.0')],
  })),
  next: [{ command: 'hod status', does: 'shows what every environment serves' }],
});

function linePlaced(version: string, number: number) {
  return {
    ...{
      line: version.slice(0, 3),
      version,
      commit: commit(number),
      digest: digest(number),
      since: at(60),
      adopted: false,
      by: 'una',
    },
    drift:
      number === 31
        ? { state: 'drifted' as const, detail: '2.2 points to sha256:000000000000, not to sha256:001f001f001f' }
        : { state: 'none' as const, detail: '' },
  };
}

/** @param silent Whether one environment does not answer. */
export function statusOf(count: number, silent = false): StatusResult {
  const environments = ['dev', 'uat', 'prod'].map((environment, place): StatusResult['environments'][number] => {
    const quiet =
      silent && environment === 'uat' ? 'could not read a manifest: uat.registry.test does not answer' : null;
    return {
      environment,
      after: ['dev', 'uat'][place - 1] ?? null,
      silent: quiet,
      waiting:
        place === 0
          ? null
          : {
              components: names(count),
              releases: [5, 4, 3, 2].map((minor) => ({
                version: `2.${minor}.0`,
                commit: commit(minor),
                since: at(minor * 20),
              })),
              more: place === 2,
              lines: place === 2 ? [{ line: '2.3', version: '2.3.3', commit: commit(33), since: at(130) }] : [],
              commits: 11,
              unmet:
                place === 1
                  ? []
                  : [
                      {
                        gate: 'sign-offs',
                        outcome: 'unmet',
                        detail: '1 of 2 signed off: siv',
                        remedy: 'let one more person sign off',
                        of: '2.5.0',
                      },
                    ],
            },
      runsBeside: place === 2 ? [{ text: 'other.test/sidecar:1.2', verdict: 'foreign', times: 3 }] : null,
      components: names(count).map((component, at2) => {
        const late = place === 2 && at2 === 0;
        const state = quiet !== null ? 'unknown' : late ? 'drifted' : place === 2 && at2 === 1 ? 'unfinished' : 'none';
        return {
          ...{ component, repository: repository(environment, component), digest: digest(at2 + 1), by: 'una' },
          included: null,
          version: late ? '2.4.0' : `2.${6 - place}.0`,
          commit: commit(late ? 4 : 6 - place),
          since: at(140 - place * 40),
          adopted: place === 2 && at2 > 0,
          runs:
            place < 2
              ? null
              : [
                  {
                    ...{ verdict: late ? 'current' : 'behind', version: '2.3.0', commit: commit(3) },
                    ...{ text: digest(3), times: 2 },
                  },
                ],
          // The newest of three older lines is there too; its tag was moved by hand.
          lines: place < 2 ? [] : ['2.3.2', '2.2.9', '2.1.4'].map((version, line) => linePlaced(version, 30 + line)),
          drift: {
            state,
            detail: {
              none: '',
              unknown: quiet ?? '',
              drifted: 'latest points to sha256:000000000000, not to sha256:000100010001',
              unfinished:
                'latest, 2 not updated yet: that run is still in progress or was interrupted, or somebody moved the tag back',
            }[state],
          },
        };
      }),
    };
  });
  return {
    ...{ product, ledger: { place: '.hod/ledger.db', entries: 124 }, everyTag: false, environments },
    bases: [
      {
        ...{
          environment: 'prod',
          component: 'timetable',
          version: '2.4.0',
          commit: commit(4),
          platform: 'linux/arm64',
        },
        ...{ name: 'registry.test/base/harbour:12', digest: digest(900), now: digest(901), state: 'moved' },
        detail: 'it leads elsewhere now',
      },
    ],
    announcements: [{ receiver: 'board', undelivered: 3, since: at(120) }],
    expiring: [
      { kind: 'exception', environment: 'prod', name: 'SKERRY-2026-0007', of: null, until: at(60), isOver: true },
      { kind: 'result', environment: 'prod', name: 'scan', of: '2.5.0', until: at(200), isOver: false },
      { kind: 'key', environment: null, name: 'build', of: null, until: at(230), isOver: false },
    ],
    growth: names(count).map((component, place) => growthIn('dev', component, 40 + place)),
  };
}

/** How much a repository holds: so many digests. */
export function growthIn(
  environment: string,
  component: string,
  digests: number,
): NonNullable<StatusResult['growth']>[number] {
  const share = (why: 'served' | 'rollback' | 'releases' | 'unknown' | 'goes', of: number) => {
    const bytes = of * 12_400_000;
    return { why, environment: ['unknown', 'goes'].includes(why) ? null : environment, digests: of, bytes };
  };
  const shares = [share('served', 1), share('rollback', 3), share('releases', 20), share('goes', digests - 24)];
  return {
    repository: repository(environment, component),
    components: [component],
    digests,
    bytes: shares.reduce((sum, { bytes }) => sum + bytes, 0),
    shares,
    weeks: [
      { week: '2026-10-26', added: digests, removed: 0 },
      { week: '2026-11-16', added: 14, removed: 14 },
    ],
  };
}

const happened: readonly (readonly [TimelineResult['events'][number]['kind'], string, string, string])[] = [
  ['rolled-back', 'prod', 'turnstiles stay shut', 'ole'],
  ['promoted', 'prod', 'from uat', 'una'],
  ['result', 'uat', 'smoke passed, https://ci.skerry.test/pipelines/skerry-line/runs/118', 'ci'],
  ['published', 'dev', 'on main', 'ci'],
];

export const timelineOf = (count: number): TimelineResult => ({
  ...{ product, release: null, more: true },
  events: happened.map(([kind, environment, detail, actor], place) => ({
    ...{ seq: 124 - place, at: at(150 - place * 30), kind, environment, detail, actor, proven: false },
    ...{ version: '2.5.0', commit: commit(7), set: null, after: null },
    components: kind === 'result' ? [] : names(count).slice(place),
  })),
});

export const compared = (count: number): CompareResult => ({
  from: { name: 'prod', kind: 'environment', version: '2.4.0', commit: commit(4) },
  to: { name: 'uat', kind: 'environment', version: '2.5.0', commit: commit(7) },
  commits: {
    added: [
      'Show the winter sailings',
      'Read the gauge at Gull Rock, and say which one it is where there are several',
    ].map((subject, place) => ({
      commit: commit(7 - place),
      author: 'Una Skerry',
      at: at(10),
      subject,
      components: names(count).slice(0, place + 1),
    })),
    left: [],
  },
  gap: null,
  components: names(count).map((component, place) => {
    const placed = (environment: string, of: number) => ({
      ...{
        reference: `${repository(environment, component)}@${digest(of)}`,
        digest: digest(of),
        included: null,
        version: '2.5.0',
        commit: commit(7),
      },
    });
    const same = place % 4 !== 0;
    return {
      ...{
        component,
        was: null,
        state: same ? 'same' : 'changed',
        from: placed('prod', place),
        to: placed('uat', same ? place : place + 500),
      },
      files: null,
      platforms: {
        added: same ? [] : ['linux/riscv64'],
        removed: [],
        changed: same
          ? []
          : [
              {
                platform: 'linux/amd64',
                from: { digest: digest(1), size: 154_000_000 },
                to: { digest: digest(2), size: 161_000_000 },
                layers: { added: [{ digest: digest(3), size: 9_000_000 }], removed: [], shared: 4 },
                says: [{ what: 'environment', name: 'PIER', from: 'north', to: 'south' }],
                inside: null,
              },
            ],
      },
    };
  }),
});

export const accessOf = (count: number): AccessResult => {
  const yes = { allowed: 'yes', code: null, why: null, next: null } as const;
  const no = {
    allowed: 'no',
    code: 'no-right',
    why: 'una may read prod.registry.test/skerry/timetable, and not write to it',
    next: 'ask whoever runs prod.registry.test for the right to write there',
  } as const;
  return {
    product,
    sources: [],
    environments: ['dev', 'prod'].map((environment, place) => ({
      environment,
      needs: 'write',
      repositories: names(count).map((component) => ({
        ...{ component, repository: repository(environment, component), read: yes, mount: null },
        ...{ write: place === 0 ? yes : no, anyoneReads: place === 1, creation: null },
      })),
    })),
    ledger: { ledger: 'refs/hod/skerry-line in origin', read: yes, append: yes },
    identity: { name: 'project:skerry-line:branch:main', issuer: 'ci' },
    signing: {
      as: null,
      sign: {
        ...{ allowed: 'no', code: 'signing-failed', why: 'it ended with 3: no such slot' },
        next: 'run it by hand to see what is wrong',
      },
    },
    logins: [
      {
        ...{ registry: 'dev.registry.test', used: 'una in /home/una/.config/containers/auth.json' },
        others: ['docker-credential-pier, named in /home/una/.docker/config.json'],
      },
      { registry: 'prod.registry.test', used: null, others: [] },
    ],
    warnings: ['una may delete dev.registry.test/skerry/timetable, which no command needs'],
  };
};

export const carried: CarryResult = {
  repository: repository('prod', 'timetable'),
  dryRun: false,
  requests: 31,
  images: [
    {
      ...{ from: `${repository('dev', 'timetable')}:2.4.0`, digest: digest(1), size: 1024, artifactType: null },
      mediaType: 'application/vnd.oci.image.index.v1+json',
      platforms: [...platforms],
      tags: [
        { tag: '2.4.0', kind: 'fixed', platform: null, outcome: 'created', reason: 'the tag is new', drift: null },
      ],
      referrers: { brought: 3, present: 1, left: [`${repository('prod', 'timetable')}:sha256-0001.sig`] },
      transfer: { blobsSent: 9, blobsMounted: 0, blobsPresent: 2, bytesSent: 48_200_000 },
    },
    {
      ...{ from: `${repository('dev', 'timetable')}@${digest(2)}`, digest: digest(2), size: 512 },
      ...{ artifactType: 'application/vnd.skerry.tides.v1', mediaType: 'application/vnd.oci.image.manifest.v1+json' },
      ...{ platforms: [], tags: [], referrers: { brought: 0, present: 0, left: [] } },
      transfer: { blobsSent: 1, blobsMounted: 0, blobsPresent: 0, bytesSent: 900 },
    },
  ],
};

export const packed = (count: number): PackResult => ({
  ...{ place: 'skerry.tar', form: 'tar', dryRun: false, product, blobs: 9 * count, size: 77_000_000 * count },
  ...{ kept: 12_000_000, referrers: 2 * count, ledgerEntries: 4 },
  leftOut: { releases: ['2.4.0'], blobs: 5 * count, size: 66_000_000 * count },
  releases: [{ version: '2.5.0', commit: commit(5) }],
  contents: names(count).map((name, place) => ({
    ...{ name, kind: 'image' as const, artifactType: null, digest: digest(place + 1), size: 77_000_000 },
    mediaType: 'application/vnd.oci.image.index.v1+json',
  })),
});

export const unpackedOf = (count: number): UnpackResult => ({
  ...{ folder: 'deploy', dryRun: false, outcome: 'written' },
  contents: names(count).map((component, place) => ({
    ...{ component, kind: 'bundle' as const, artifactType: null, digest: digest(place + 1) },
    ...{ files: 40 * (place + 1), size: 700_000 },
  })),
});

export const adopted = (count: number): AdoptResult => ({
  ...{ product, dryRun: false, requests: 26 * count },
  environments: (['uat', 'prod'] as const).map((environment, place) => ({
    environment,
    components: names(count).flatMap((component, at2) =>
      [0, 1].slice(0, place + 1).map((older) => ({
        ...{ component, repository: repository(environment, component), digest: digest(10 * older + at2) },
        ...{ mediaType: 'application/vnd.oci.image.index.v1+json', platforms: ['linux/amd64', 'linux/arm64'] },
        ...{ version: older === 0 ? '2.5.0' : '2.4.1', commit: commit(older === 0 ? 5 : 4) },
        told: { version: 'tag' as const, commit: at2 === 0 ? ('git tag' as const) : ('label' as const) },
        way: older === 0 ? ('takes-over' as const) : ('beside' as const),
        lines: [older === 0 ? '2.5' : '2.4'],
        tags: [
          { tag: older === 0 ? '2.5.0' : '2.4.1', kind: 'fixed' as const },
          { tag: place === 0 ? 'uat' : older === 0 ? 'latest' : '2.4', kind: 'moving' as const },
        ],
        known: false,
        claimed: place === 1 && at2 === 1 && older === 0 ? commit(3) : null,
      })),
    ),
    absent: place === 0 ? [] : [{ component: 'fare-tables', why: `${repository('prod', 'fare-tables')} has no tags` }],
  })),
  left: [{ repository: repository('prod', 'timetable'), tag: '2.1', why: 'its commit is unknown' }],
  contradictions: [
    {
      component: 'timetable',
      version: '2.5.0',
      places: (['uat', 'prod'] as const).map((environment, at2) => ({
        repository: repository(environment, 'timetable'),
        digest: digest(at2),
      })),
    },
  ],
  next: [{ command: 'hod status', does: 'shows what every environment serves' }],
});

export const proved = (count: number): ProveResult => ({
  ...{ product, deep: true },
  environments: [
    {
      environment: 'prod',
      components: names(count).map((component, place) => ({
        component,
        digest: digest(place + 1),
        version: '2.5.0',
        commit: commit(7),
        adopted: false,
      })),
      lines: [
        {
          line: '2.3',
          component: 'timetable',
          digest: digest(30),
          version: '2.3.2',
          commit: commit(30),
          adopted: true,
        },
      ],
      looked: { manifests: 3 * count, blobs: 9 * count, bytes: 48_200_000 * count, tags: 2 * count, referrers: count },
      notes: [],
      statements: names(count).flatMap((component, place) => [
        {
          ...{ component, referrer: digest(700 + place), predicateType: 'https://skerry.test/built/v1' },
          ...(place % 3 === 1
            ? { by: null, detail: 'it is not signed by anybody who is trusted' }
            : { by: 'build', detail: `Ed25519 ${digest(7)}` }),
        },
      ]),
      signed: (['dev', 'uat', 'prod'] as const).map((environment, place) => ({
        ...{ object: '2.5.0', environment, entry: 100 + place, actor: 'ci' },
        ...{ by: place === 0 ? 'build' : 'promote', key: `Ed25519 ${place === 0 ? '5ed1f00d' : 'ab12cd34'}` },
      })),
      findings: [
        {
          ...{
            finding: 'moving-tag-moved',
            component: 'timetable',
            object: `${repository('prod', 'timetable')}:latest`,
          },
          detail: `it leads to ${digest(900)}, and the ledger says ${digest(1)}`,
          remedy: 'put it right: `hod restore prod`',
        },
      ],
    },
  ],
});

export const pointed: PointResult = {
  ...{ products: [product], environment: 'prod', check: true },
  files: [
    {
      ...{ file: 'deploy/timetable.yaml', written: false, right: 3, left: [], unclear: [], others: 1 },
      retired: [
        {
          ...{ component: 'tide-watch', line: 30, object: `${repository('prod', 'tide-watch')}:2.4` },
          why: 'tide-watch retired: prod no longer serves it',
        },
      ],
      changes: [
        {
          ...{ component: 'timetable', line: 12, reason: 'stale', from: digest(4), to: digest(7) },
          before: `        image: prod.registry.test/skerry/timetable@${digest(4)} # 2.4.0`,
          after: `        image: prod.registry.test/skerry/timetable@${digest(7)} # 2.5.0`,
        },
      ],
    },
  ],
};

export const tagsOf = (count: number): TagsResult => ({
  repositories: [
    {
      repository: repository('prod', 'timetable'),
      exists: true,
      count: count + 40,
      tidied: { digests: 120, by: 'una', at: at(2), rule: 'prod keeps 20 releases' },
      digests: Array.from({ length: Math.min(count, 30) }, (_, place) => ({
        ...{
          digest: digest(place + 1),
          mediaType: 'm',
          platforms,
          created: at(place),
          since: place === 0 ? null : at(place - 1),
          revision: commit(place),
          version: null,
        },
        tags: [
          { tag: `2.5.${count - place}`, kind: 'fixed', known: true },
          ...(place === 0 ? ([{ tag: 'latest', kind: 'moving', known: true }] as const) : []),
        ],
        servedBy: place === 0 ? ['prod'] : [],
      })),
    },
  ],
});

export const shown: ShowResult = {
  ...{
    reference: 'prod.registry.test/skerry/timetable:2.5.0',
    repository: repository('prod', 'timetable'),
    kind: 'index',
  },
  ...{ digest: digest(1), mediaType: 'application/vnd.oci.image.index.v1+json', size: 154_000_000, shared: 2_000_000 },
  ...{
    pull: `${repository('prod', 'timetable')}@${digest(1)}`,
    annotations: { 'org.opencontainers.image.revision': commit(7) },
  },
  platforms: platforms.map((platform, place) => ({
    ...{
      platform,
      digest: digest(place + 2),
      size: 77_000_000,
      unpacked: null,
      layers: 5,
      created: at(3),
      revision: commit(7),
    },
    ...{ version: '2.5.0', base: { name: 'registry.test/base/harbour:12', digest: digest(900) } },
  })),
  referrers: [
    { digest: digest(9), type: 'application/vnd.skerry.signature.v1', size: 420, about: null, signed: null },
    {
      ...{ digest: digest(8), type: 'application/vnd.in-toto+json', size: 960, about: null },
      signed: [
        { by: 'build', detail: 'Ed25519 sha256:000700070007', predicateType: 'https://skerry.test/built/v1' },
        { by: null, detail: 'it is not signed by anybody who is trusted', predicateType: null },
      ],
    },
  ],
  release: null,
  image: null,
  deep: false,
};

const standing = (
  environment: string,
  state: IdentifyResult['found'][number]['environments'][number]['state'],
): IdentifyResult['found'][number]['environments'][number] => ({
  ...{ environment, component: 'timetable', state, line: null, release: { version: '2.4.0', commit: commit(4) } },
  ...{ since: at(20), until: state === 'current' ? null : at(60), serves: { version: '2.5.0', commit: commit(7) } },
  ...{ releasesBehind: state === 'behind' ? 2 : null, commitsBehind: state === 'behind' ? 14 : null },
  withdrawn: state === 'withdrawn' ? { by: 'ole', at: at(60), reason: 'turnstiles stay shut' } : null,
});

/** What a text named: one thing for each way in which it can stand. */
export const identified = (count: number): IdentifyResult => ({
  ...{ products: [product], in: 'prod', allServed: false, overflowed: count > 100 },
  lookedThrough:
    count === 1
      ? null
      : { components: 12, unread: [{ object: repository('prod', 'timetable'), why: 'access was denied' }] },
  found: (
    ['withdrawn', 'behind', 'never', 'current', 'elsewhere', 'moving', 'foreign', 'unknown', 'ambiguous'] as const
  )
    .flatMap((verdict) => names(verdict === 'behind' ? count : 1).map((_, place) => ({ verdict, place })))
    .map(({ verdict, place }) => {
      const isKnown = !['foreign', 'unknown', 'ambiguous'].includes(verdict);
      const state = verdict === 'withdrawn' || verdict === 'behind' || verdict === 'never' ? verdict : 'current';
      return {
        ...{ product: isKnown ? product : null, times: place + 1, is: isKnown ? ('image' as const) : null, verdict },
        text: verdict === 'foreign' ? 'other.test/sidecar:1.2' : `${repository('prod', 'timetable')}@${digest(place)}`,
        ...{ digest: isKnown ? digest(place) : null, platform: isKnown ? 'linux/arm64' : null, type: null },
        candidates: verdict === 'ambiguous' ? [digest(1), digest(2)] : [],
        ...{ repositoryOf: isKnown ? ['prod'] : null, tag: verdict === 'moving' ? ('moving' as const) : null },
        removed:
          verdict === 'behind'
            ? { state: 'removed' as const, by: 'una', at: '2026-03-01T08:00:00.000Z', rule: 'prod keeps 20 releases' }
            : null,
        byRecord: false,
        components: isKnown
          ? [{ component: 'timetable', digest: digest(1), count: 1, releases: [releaseOf('2.4.0', 4)] }]
          : [],
        environments: isKnown ? [standing('dev', 'behind'), standing('prod', state)] : [],
      };
    }),
  commits: [
    {
      ...{
        text: 'HEAD',
        product,
        commit: commit(7),
        author: 'Una Skerry',
        at: at(10),
        subject: 'Close the gate at night',
      },
      picks: [{ commit: commit(33), by: 'changes' }],
      first: [{ components: ['timetable'], ...releaseOf('2.5.0', 7) }],
      environments: (['in', 'was-in', 'not-in', 'unknown'] as const).map((state, place) => ({
        ...{ environment: ['dev', 'uat', 'stage', 'prod'][place] ?? '', component: 'timetable', state, line: null },
        ...{ serves: { version: '2.4.0', commit: commit(4) }, release: { version: '2.5.0', commit: commit(7) } },
        ...{
          since: at(60),
          withdrawn: state === 'was-in' ? { by: 'ole', at: at(90), reason: 'turnstiles stay shut' } : null,
        },
      })),
      waiting: [
        {
          environment: 'stage',
          unmet: [
            { gate: 'sign-offs', outcome: 'unmet', detail: '1 of 2 signed off: siv', remedy: 'let one more sign' },
          ],
        },
      ],
      incomplete: true,
    },
  ],
});

function releaseOf(version: string, number: number) {
  return {
    ...{ version, commit: commit(number), branch: 'main', build: '118', run: null },
    ...{ published: at(15), by: 'ci' },
  };
}

export const lookedInside: InsideResult = {
  ...{
    reference: 'out/harbour-lights.tar',
    platform: 'linux/arm64',
    digest: digest(1),
    files: 24,
    size: 5_100_000,
    narrowed: false,
  },
  layers: [1, 2].map((number) => ({
    number,
    digest: digest(number),
    size: 2_000_000,
    unpacked: 5_000_000,
    members: 12,
    hidden: number === 1 ? 900_000 : 0,
  })),
  hiddenTotal: { files: 1, bytes: 900_000 },
  concerns: [{ concern: 'secret', path: 'etc/ssl/deploy.key', layer: 1, hidden: true, fails: true }],
  largest: [{ path: 'usr/bin/lights', kind: 'file', size: 4_200_000, mode: '0755', link: null, layer: 1 }],
  paths: [{ path: 'app', kind: 'folder', size: 100, mode: '0755', link: null, layer: 2 }],
  hidden: [{ path: 'app/tides.cache', size: 900_000, layer: 1, by: 2, how: 'deleted' }],
};

export const begun: InitResult = {
  ...{
    file: 'hod.yaml',
    product,
    environments: ['dev', 'uat'],
    ledger: 'the git remote origin',
    ciFound: false,
    registry: null,
  },
  images: [{ name: 'timetable', from: ['out/timetable-amd64', 'out/timetable-arm64.tar'], platforms }],
  next: [
    { command: 'git add hod.yaml && git commit -m "Describe how this is released"', does: 'a release is of a commit' },
    { command: 'hod publish', does: 'into dev' },
  ],
  ...{ lines: [], dryRun: false },
};

export const announced: AnnounceResult = {
  product,
  receivers: [
    { receiver: 'board', delivered: 3, failed: null },
    { receiver: 'pager', delivered: 0, failed: 'https://pager.skerry.test/events answered 503 for three seconds' },
  ],
};

export const assembled: AssembleResult = {
  ...{
    repository: repository('dev', 'timetable'),
    digest: digest(1),
    dryRun: false,
    kept: false,
    companions: 1,
    changed: null,
    transfer,
  },
  mediaType: 'application/vnd.oci.image.index.v1+json',
  members: platforms.map((platform, place) => ({
    platform,
    digest: digest(place + 2),
    size: 77_000_000,
    revision: commit(7),
  })),
  tags: [tag('2.5.0', 'created')],
};

export const checked: ConfigCheckResult = {
  ...{ file: 'hod.yaml', product, images: names(3), bundles: ['fare-tables'], environments: ['dev', 'uat', 'prod'] },
  includes: [],
  pushed: [{ component: 'pier-1', reference: 'build.registry.test/skerry/pier-1:c-{commit:12}' }],
  warnings: ['the ledger is a file in the clone, which jobs of a CI do not share: docs/ledger.md, "Which ledger"'],
};

export const rulesAccepted = (count: number): RulesResult => ({
  ...{ product, environment: 'prod', by: 'siv', dryRun: false, isNew: true, digest: digest(4) },
  differences: names(Math.min(count, 4)).map((name) => `results: ${name} in force, none here`),
  ...{ accepted: ['siv'], needed: 2, inForce: count > 1 },
});

export const rulesCompared = (count: number): ConfigCompareResult => ({
  ...{ product, file: 'hod.yaml', digest: digest(4) },
  environments: names(Math.min(count, 4)).map((environment, place) => ({
    environment,
    inForce:
      place === 2
        ? null
        : {
            ...{ digest: digest(3), commit: commit(7) },
            source: place === 1 ? null : { remote: 'git.skerry.test/skerry/line', branch: 'main' },
          },
    differences: place === 1 ? [] : ['sign-offs: 2 in force, none here'],
    accepted: place !== 0,
    reason: place === 0 ? 'hod.yaml differs from the head of main (000000000007)' : null,
  })),
});

export const configured = (count: number): ConfigShowResult => ({
  ...{ file: 'hod.yaml', product, ledger: 'refs/hod/skerry-line in origin' },
  variables: [
    { name: 'account', value: '4471', env: 'SKERRY_ACCOUNT' },
    { name: 'region', value: 'north', env: null },
  ],
  includes: [
    { component: 'map', reference: 'registry.test/charts/map:1.2', served: null },
    {
      ...{ component: 'pay', reference: null },
      served: { product: 'payments', environment: 'prod', component: 'till', ledger: 'refs/hod/payments in payments' },
    },
  ],
  announce: [{ receiver: 'board', url: 'https://board.skerry.test/events', kinds: ['promoted', 'rolled-back'] }],
  trust: {
    keys: [{ name: 'build', kind: 'Ed25519', digest: digest(7), from: null, until: '2027-01-01T00:00:00Z' }],
    authorities: [{ name: 'corp', names: ['build@skerry.test'] }],
    issuers: [
      { name: 'ci', url: 'https://ci.skerry.test', audience: 'hod', subjects: ['project:skerry-line:branch:main'] },
    ],
    people: ['una@skerry.test', 'siv@skerry.test'],
  },
  sign: 'the key in HOD_SIGNING_KEY',
  groups: [{ name: 'release-managers', people: ['una@skerry.test', 'siv@skerry.test'] }],
  environments: ['dev', 'prod'].map((environment, place) => ({
    ...{ environment, after: place === 0 ? null : 'uat', referrers: ['all'] },
    keep: place === 0 ? '30 releases, everything of the last 14 d' : null,
    follows: place === 0 ? { branches: ['main', 'release/*'], usual: false } : null,
    takes: place === 0 ? null : ['main', 'release/*'],
    receives: place === 0 ? ('builds' as const) : null,
    gates: {
      served: null,
      ...{
        resultRules: place === 0 ? [] : [{ name: 'smoke', rule: 'smoke (no older than 7 d)' }],
        results: ['smoke'],
        signOffs: 2,
        signOffsFrom: ['release-managers'],
        signOffsProven: place === 1,
        soak: 86_400_000,
        freeze: ['fri 16:00 to mon 08:00, Europe/Dublin'],
      },
      ...{ platforms, annotations: [], referrers: [], signedCommit: place === 1 },
      attested:
        place === 0
          ? []
          : [
              {
                ...{ type: 'https://skerry.test/built/v1', by: ['build'], noOlderThan: 2_592_000_000 },
                ...{
                  where: [{ field: 'predicate.builder.id', values: ['https://ci.skerry.test/*'] }],
                  each: 'platform' as const,
                },
              },
            ],
    },
    components: names(count).map((component) => ({
      ...{ component, repository: repository(environment, component) },
      tags: [{ rule: '{version}', kind: 'fixed', follows: null, tag: null }],
    })),
  })),
});

export const verified: LedgerResult = {
  ...{ product, ledger: '.hod/ledger.db', entries: 124, head: digest(9), facts: 310 },
  compacted: {
    entries: 40,
    files: [{ file: 'old.jsonl', digest: digest(8), entries: 40, at: '2026-11-01T08:00:00.000Z', by: 'una' }],
    read: false,
  },
  signatures: {
    since: 41,
    signers: [
      { by: 'build', key: 'Ed25519 5ed1f00d', entries: 60, first: 41, last: 124 },
      { by: 'promote', key: 'ECDSA P-256 ab12cd34', entries: 21, first: 44, last: 120 },
    ],
    unsigned: [
      { from: 70, to: 71, problem: 'it is not signed', accepted: { by: 'una', reason: 'imported by hand' } },
      { from: 80, to: 80, problem: 'it is not signed by anybody who is trusted', accepted: null },
    ],
  },
};
export const compacted: LedgerCompactResult = {
  ...{ product, ledger: '.hod/ledger.db', file: 'old.jsonl', dryRun: false, before: '2026-08-28T09:00:00.000Z' },
  ...{ entries: 40, kept: 84 },
};
export const accepted: LedgerAcceptResult = {
  ...{ product, ledger: '.hod/ledger.db', by: 'una', dryRun: false, from: 70, to: 71, entries: 2 },
  reason: 'imported by hand',
};
export const copied: LedgerCopyResult = {
  ...{ product, from: 'ledger.jsonl', to: 'refs/hod/skerry-line in origin', dryRun: false, written: 124, present: 3 },
};
export const rebuilt = (count: number): RebuildResult => ({
  ...{ product, ledger: '.hod/ledger.db', dryRun: true, entries: 12, releases: 4 },
  environments: [
    {
      environment: 'prod',
      serves: names(count).map((component, place) => ({
        component,
        digest: digest(place),
        version: '2.5.0',
        commit: commit(7),
      })),
    },
  ],
  notRecovered: [{ what: 'who did what', detail: 'records name nobody, for registries may be public' }],
});

export const recorded: ResultResult = {
  ...{ product, environment: 'uat', by: 'ci', dryRun: false, isNew: true, name: 'smoke', passed: true },
  link: 'https://ci.skerry.test/pipelines/skerry-line/runs/118',
  report: {
    ...{ digest: digest(5), format: 'sarif', tool: 'gull-scan 3.1', at: '2026-11-25T09:30:00.000Z', tests: null },
    findings: { critical: 0, high: 2, medium: 11, low: 0, unknown: 0, none: 0 },
  },
  releases: [{ version: '2.5.0', commit: commit(7), components: names(3) }],
};

export const touchedOf = (count: number): TouchedResult => ({
  ...{ product, since: 'v2.4.0', commit: commit(7) },
  components: names(count).map((component, place) => ({
    ...{
      component,
      kind: 'image',
      since: commit(place),
      touched: place % 2 === 0,
      files: [`services/${component}/main.ts`],
      reason: 'its inputs changed',
    },
  })),
});

export const listed = (count: number): RepositoriesResult => ({
  ...{ registry: 'prod.registry.test', source: 'registry', whole: false },
  repositories: names(count).map((component) => `skerry/${component}`),
});

export const stored: StoredLoginsResult = {
  ...{ file: '/home/una/.config/hod/logins.json', dryRun: false },
  logins: [{ registry: 'dev.registry.test', username: 'una' }],
};

export const stands: SandboxResult = {
  registries: [{ name: 'dev', registry: 'dev.localhost:5510', folder: null }],
  ...{ identity: null, receiver: { url: 'http://127.0.0.1:5520/events', key: 'tern' } },
};

/** Files of Hod's own on a machine, where two runs were killed. */
export const tidiedHere: TidyHereResult = {
  dryRun: true,
  kept: [
    { kind: 'ledger', place: '/srv/skerry/.hod/ledger.db', files: 1, bytes: 4.2e6, goes: { files: 0, bytes: 0 } },
    { kind: 'uploads', place: '/srv/skerry/.hod/uploads', files: 3, bytes: 912, goes: { files: 2, bytes: 608 } },
    { kind: 'user', place: '/home/una/.config/hod/logins.json', files: 1, bytes: 301, goes: { files: 0, bytes: 0 } },
    { kind: 'temporary', place: '/tmp', files: 14, bytes: 51_200, goes: { files: 14, bytes: 51_200 } },
  ],
};

/** What may go, of so many repositories; the last of them could not be looked through. */
export const tidied = (count: number): TidyResult => ({
  ...{ product, dryRun: true, finished: 0, requests: 40 * count },
  environments: [
    { environment: 'dev', keep: '30 releases, 5 releases of each other branch, everything of the last 14 d' },
    { environment: 'prod', keep: null },
  ],
  repositories: names(count).map((component, place) => {
    const content = (at: number) => ({
      ...{ digest: digest(at), components: [component], environments: ['dev'] },
      releases: [{ version: place % 2 === 0 ? `2.4.${at}` : null, commit: commit(at) }],
    });
    const isUnread = count > 1 && place === count - 1;
    const goes = isUnread ? [] : [1, 2, 3].slice(place % 3).map(content);
    const reasons = [
      { why: 'served', environment: 'prod', of: null },
      { why: 'releases', environment: 'dev', of: null },
      { why: 'tag', environment: 'dev', of: 'winter-fares' },
      { why: 'shared', environment: null, of: 'skerry-mail' },
    ] as const;
    return {
      ...{ repository: repository('dev', component), components: [component] },
      ...{ holds: isUnread ? null : 3.1e9 - place * 1e6, frees: isUnread ? null : 1.2e9 - place * 1e6 },
      goes: goes.map((each) => {
        return { ...each, tags: ['c-1', '2.4.1'], manifests: 3, referrers: 1, outcome: 'goes', why: null };
      }),
      stays: reasons.map((reason, at) => ({ ...content(at + 4), reasons: [reason] })),
      unknown: place === 0 ? ['mine', 'nightly'] : [],
      unread: isUnread ? 'access is denied: dev.registry.test/skerry' : null,
    };
  }),
});

const { repositories: read, ...readings } = tidied(2);
/** Repositories that could not be looked through, all of them. */
export const notTidied: TidyResult = { ...readings, repositories: read.slice(1) };
