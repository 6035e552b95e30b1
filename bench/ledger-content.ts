// What is written into ledgers that are measured.
import { commitSchema, type CommitId } from '../src/core/commit';
import { sha256 } from '../src/core/oci/digest';
import { formatRepository } from '../src/core/oci/reference';
import type { Action } from '../src/core/ledger/entries';
import { emptyHead, entryAfter, headAfter, type Head, type SealedEntry } from '../src/core/ledger/entry';
import { tagKey, type FactKey } from '../src/core/ledger/facts';
import { releaseIdSchema } from '../src/core/ledger/release';
import { tagSchema } from '../src/core/oci/tag';
import { versionLinesOf, parseVersion } from '../src/core/tags/version';
import { timestampOf } from '../src/core/time';
import type { Ledger } from '../src/ledger/ledger';

const repository = formatRepository({ registry: 'dev.skerry.test', name: 'skerry/timetable' });
export const at2026 = timestampOf(new Date(Date.UTC(2026, 10, 23)));

const commitOf = (at: number): CommitId => commitSchema.parse(at.toString(16).padStart(40, '0'));

/** The publication of a build: a new commit and version, and a branch that moves on. */
export function publication(at: number): Extract<Action, { kind: 'published' }> {
  const digest = sha256(String(at));
  const version = parseVersion(`${Math.floor(at / 1000)}.${Math.floor(at / 10) % 100}.${at % 10}`);
  const tag = (name: string, kind: 'fixed' | 'moving') => ({
    component: 'timetable',
    repository,
    tag: tagSchema.parse(name),
    kind,
    digest,
  });
  return {
    kind: 'published',
    release: releaseIdSchema.parse(sha256(`release ${at}`)),
    commit: commitOf(at),
    version,
    branch: 'main',
    environment: 'dev',
    components: [
      { component: 'timetable', repository, digest, mediaType: 'm', size: 1000, platforms: ['linux/amd64'] },
    ],
    tags: [tag(`c-${at}`, 'fixed'), tag(version, 'fixed'), tag('main', 'moving'), tag('latest', 'moving')],
    arrivals: [{ component: 'timetable', way: 'takes-over', lanes: ['branch main'], tagged: ['branch main'] }],
  };
}

export function sealed(head: Head, product: string, at: number): SealedEntry {
  return entryAfter(head, { product, at: at2026, actor: 'una', action: publication(at) });
}

export async function fill(ledger: Ledger, product: string, length: number, batchSize = 100): Promise<void> {
  let head = emptyHead;
  for (let at = 0; at < length;) {
    const batch: SealedEntry[] = [];
    const before = head;
    for (; batch.length < batchSize && at < length; at += 1) {
      const entry = sealed(head, product, at);
      batch.push(entry);
      head = headAfter(entry);
    }
    if ((await ledger.append(batch, before)) === undefined) {
      throw new Error('somebody else wrote into the ledger');
    }
  }
}

/** What a publication asks for. */
export function keysAt(at: number): FactKey[] {
  const version = parseVersion(`${Math.floor(at / 1000)}.${Math.floor(at / 10) % 100}.${at % 10}`);
  return [
    { kind: 'environment', key: 'dev' },
    { kind: 'release', key: sha256(`release ${at}`) },
    { kind: 'commit', key: commitOf(at) },
    { kind: 'version', key: version },
    ...versionLinesOf(version).map((key): FactKey => ({ kind: 'line', key })),
    ...[`c-${at}`, version, 'main', 'latest'].map((tag): FactKey => ({
      kind: 'tag',
      key: tagKey(repository, tagSchema.parse(tag)),
    })),
  ];
}

export const median = (values: readonly number[]): number =>
  [...values].sort((a, b) => a - b)[Math.floor(values.length / 2)] ?? NaN;
