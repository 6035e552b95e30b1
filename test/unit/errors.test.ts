import { unaskedTarget } from '../support/ports';
import { appendFileSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { readBundle } from '../../src/archive/bundle';
import { unforeseen } from '../../src/cli/unforeseen';
import { allBytes } from '../../src/core/bytes';
import { commitSchema } from '../../src/core/commit';
import { HodError } from '../../src/core/errors';
import { parseConfig } from '../../src/core/oci/config';
import { sha256 } from '../../src/core/oci/digest';
import { parseManifest } from '../../src/core/oci/manifest';
import { mediaTypes } from '../../src/core/oci/media-types';
import { formatRepository, parseRepository } from '../../src/core/oci/reference';
import { emptyHead } from '../../src/core/ledger/entry';
import { Facts, tagKey } from '../../src/core/ledger/facts';
import { releaseId } from '../../src/core/ledger/release';
import type { UnmetGate } from '../../src/core/release/gates/gate';
import { Refusal } from '../../src/core/release/refusal';
import type { TagDecision } from '../../src/core/release/tag-decisions';
import { tagSchema } from '../../src/core/oci/tag';
import { Judge } from '../../src/delivery/judge';
import { completing, settle } from '../../src/delivery/settle';
import { toErrorResult } from '../../src/results/error';
import { failing } from '../support/seen-errors';

test('what nobody foresaw is told as a defect, with where it happened', async () => {
  const error = await failing('defect', () => {
    throw unforeseen(new Error('the tide is out'));
  });
  expect(error.message).toMatch(/the tide is out[^]*errors\.test\.ts/);
  expect(error.exitCode).toBe(1);
});

test('what the system refuses is told as that, and not as a defect', async () => {
  const error = await failing('system-refused', () => {
    try {
      readFileSync('/nowhere/tides');
    } catch (refused) {
      throw unforeseen(refused);
    }
  });
  expect(error.problem).toMatchObject({ object: '/nowhere/tides' });
  expect(error.exitCode).toBe(6);
});

test('a decision that never has what it needs ends', async () => {
  const ledger = { read: () => Promise.resolve({ head: emptyHead, facts: new Facts() }) };
  const orders = {
    around: () => Promise.reject(new Error('unasked')),
    highest: () => Promise.reject(new Error('unasked')),
  };
  let rounds = 0;
  await failing('ledger-contended', () =>
    new Judge({ ledger, orders }, []).decide(() => {
      rounds += 1;
      return { kind: 'needs', needs: [] };
    }),
  );
  expect(rounds).toBe(200);
});

test('several rules that say no are one refusal, that lists them all', () => {
  const unmet = (code: UnmetGate['code'], object: string): UnmetGate => {
    return {
      gate: `rule-${code}`,
      outcome: 'unmet',
      code,
      what: `${code} happened`,
      object,
      detail: 'why',
      remedy: 'do',
    };
  };
  const { error } = toErrorResult(new Refusal([unmet('other-build', '2.4.0'), unmet('version-taken', '2.4.0')]));
  expect(error).toMatchObject({ code: 'other-build', exitCode: 3, object: '2.4.0', next: 'do' });
  expect(error.why).toBe('other-build happened: why\nversion-taken happened: why');
  expect(error.gates.map(({ code }) => code)).toEqual(['other-build', 'version-taken']);
});

test('an image config that is none', async () => {
  for (const text of ['[]', '{"os":"linux"}', '{"os":1,"architecture":"arm64"}', '\u0000']) {
    await failing('image-config-corrupt', () => parseConfig(Buffer.from(text), 'timetable'));
  }
});

test('a file of a bundle that changes while it is read', async () => {
  const folder = mkdtempSync(join(tmpdir(), 'hod-bundle-'));
  writeFileSync(join(folder, 'fares.csv'), 'zone\n');
  const { manifest, source } = await readBundle('fare-tables', folder);
  const layer = manifest.kind === 'image' ? manifest.layers[0] : undefined;
  appendFileSync(join(folder, 'fares.csv'), 'inner\n');
  await failing('files-changed', async () => allBytes(await source.openBlob(layer ?? never())));
  rmSync(folder, { recursive: true });
});

test('a tag that the ledger promises, of content that the registry has lost', async () => {
  const repository = formatRepository(parseRepository('dev.test/skerry/timetable'));
  const document = { schemaVersion: 2, mediaType: mediaTypes.index, manifests: [] };
  const manifest = parseManifest(Buffer.from(JSON.stringify(document)), { label: 'timetable' });
  const [tag, newer] = [tagSchema.parse('main'), sha256('a newer one')];
  const { digest } = manifest;
  const decision: TagDecision = {
    component: 'timetable',
    repository,
    tag,
    kind: 'moving',
    digest,
    outcome: 'created',
    reason: 'the tag is new',
    served: undefined,
  };
  const facts = new Facts();
  const commit = commitSchema.parse('c'.repeat(40));
  const release = releaseId({ product: 'skerry-line', commit, version: undefined, components: [] });
  facts.set('tag', tagKey(repository, tag), { kind: 'moving', digest: newer, release, commit, seq: 2 });
  const ledger = { read: () => Promise.resolve({ head: { seq: 2, hash: newer }, facts }) };
  const unasked = unaskedTarget(repository);
  const nothing = () => Promise.resolve(undefined);
  const item = {
    component: 'timetable',
    node: { manifest, children: [] },
    target: { ...unasked, manifests: { ...unasked.manifests, get: nothing, resolve: nothing } },
  };
  await failing('content-gone', () =>
    settle([item], [decision], { ledger, appended: false, mending: (_, write) => write() }),
  );
});

test('a tag of a withdrawn release that a registry keeps, and a registry that fails once a decision is recorded', async () => {
  const repository = formatRepository(parseRepository('prod.test/skerry/timetable'));
  const [tag, bad] = [tagSchema.parse('2.5'), sha256('what was withdrawn')];
  const commit = commitSchema.parse('c'.repeat(40));
  const release = releaseId({ product: 'skerry-line', commit, version: undefined, components: [] });
  const facts = new Facts();
  facts.set('tag', tagKey(repository, tag), { kind: 'moving', digest: bad, release, commit, gone: true, seq: 2 });
  const ledger = { read: () => Promise.resolve({ head: { seq: 2, hash: bad }, facts }) };
  const about = {
    component: 'timetable',
    repository,
    tag,
    kind: 'moving',
    digest: bad,
    reason: 'rolled back',
  } as const;
  const decision: TagDecision = { ...about, outcome: 'removed', served: bad, never: [bad] };
  const unasked = unaskedTarget(repository);
  const item = { component: 'timetable', target: { ...unasked, tags: { ...unasked.tags, remove: async () => false } } };
  const settling = () =>
    settle([item], [decision], {
      ledger,
      appended: false,
      mending: (_, write) => write(),
    });
  await failing('tag-not-removed', () => completing('prod', settling));
  const down = new HodError('registry-fault', {
    what: 'the registry failed',
    object: 'prod.test',
    why: '503',
    next: 'try again',
  });
  await failing('tags-incomplete', () => completing('prod', () => Promise.reject(down)));
});

function never(): never {
  throw new Error('a bundle has a layer');
}
