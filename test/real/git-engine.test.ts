import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { openGitLedger } from '../../src/ledger/engines/git';
import { GitRemoteRepository } from '../support/git-remote';
import { keepsALedger } from '../support/ledger-suite';

// Each append is a few runs of git.
jest.setTimeout(120_000);

const caches = mkdtempSync(join(tmpdir(), 'hod-git-caches-'));
afterAll(() => rmSync(caches, { recursive: true }));

describe.each([
  ['over a path, which sends all', false, false],
  ['over HTTP, which sends what is asked for', true, true],
])('a ledger in git, %s', (_, http, partial) => {
  let remote: GitRemoteRepository;
  let url: string;
  let opened = 0;
  beforeAll(async () => {
    remote = new GitRemoteRepository({ partial });
    url = http ? await remote.serve() : `file://${remote.path}`;
  });
  afterAll(() => remote.remove());

  const ref = (product: string) => `refs/hod/${product}`;
  keepsALedger(
    {
      // Each as a job with a clone of its own.
      open: (product) =>
        openGitLedger({
          place: {
            label: `${ref(product)} in origin`,
            ref: ref(product),
            refOf: ref,
            url,
            folder: caches,
            settings: [],
            remoteSettings: [],
          },
          cache: join(caches, `${partial} ${(opened += 1)}`),
          product,
          access: 'write',
          waiting: () => undefined,
        }),
      tamper: async (how) =>
        remote.rewrite(ref('skerry-line'), 'entries/00/00/02', (text) =>
          how === 'remove' ? undefined : text.replace('una', 'eve'),
        ),
      clear: async () => ['skerry-line', 'other'].forEach((product) => remote.forget(ref(product))),
    },
    { runs: 12 },
  );
});
