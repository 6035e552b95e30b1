import { execFileSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { cp, mkdtemp, readFile, rename, rm, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import Database from 'libsql';
import { hod, hodFails, hodJson } from '../support/hod';
import { SmallProduct } from '../support/small-product';
import { standInServers } from '../support/tidy-servers';

/** Lets programs see a clock that is so many days behind as a file says. */
const clock = (file: string): string => `
  const real = Date;
  const behind = () => Number(require('node:fs').readFileSync(${JSON.stringify(file)}, 'utf8')) * 86400000;
  globalThis.Date = class extends real {
    constructor(...given) { super(...(given.length === 0 ? [real.now() - behind()] : given)); }
    static now() { return real.now() - behind(); }
  };`;

test.each(['a file', 'git', 'git that keeps every commit'])(
  'entries of releases that tidying removed move from a ledger in %s, and everything else answers as before',
  async (kept) => {
    const folder = await mkdtemp(join(tmpdir(), 'hod-compact-'));
    const [behind, preload, remote] = ['behind', 'clock.cjs', 'ledger.git'].map((name) => join(folder, name)) as [
      string,
      string,
      string,
    ];
    await writeFile(preload, clock(behind));
    await writeFile(behind, '200');
    const git = (...args: string[]): string =>
      execFileSync('git', ['-C', remote, ...args], { encoding: 'utf8' }).trim();
    if (kept !== 'a file') {
      execFileSync('git', ['init', '--quiet', '--bare', remote]);
      git('config', 'receive.denyNonFastForwards', String(kept !== 'git'));
      git('config', 'uploadpack.allowFilter', 'true');
      git('config', 'uploadpack.allowAnySHA1InWant', 'true');
    }
    const servers = await standInServers('both');
    const ref = kept === 'git' ? 'refs/hod/skerry-small' : 'refs/heads/hod/skerry-small';
    const ledger = kept === 'a file' ? undefined : `{ git: { remote: "file://${remote}", ref: ${ref} } }`;
    const product = await SmallProduct.create(servers, ledger, { NODE_OPTIONS: `--require ${preload}` });
    const { options } = product;
    const file = (name: string): string => join(options.cwd, name);
    const life = async (version: string) =>
      (await hodJson('timeline', ['timeline', version], options)).events.map(({ kind }) => kind);
    const serves = async () => (await hodJson('status', ['status'], options)).environments;
    try {
      await product.keep('{ releases: 1, rollbacks: 0 }');
      for (const minor of [1, 2, 3]) {
        await product.publish(minor);
        if (minor === 2) {
          await cp(file('.hod'), join(folder, 'long-ago'), { recursive: true });
        }
      }
      await hodJson('tidy', ['tidy', 'dev', '--remove'], options);
      await hodJson('promote', ['promote', 'uat'], options);
      await writeFile(behind, '0');
      await product.publish(4);
      const before = [await life('1.3.0'), await serves()];
      const { entries } = await hodJson('ledger-verify', ['ledger', 'verify'], options);

      // Two publications, and twice what was to be removed of them and what was.
      const would = await hodJson('ledger-compact', ['ledger', 'compact', 'old.jsonl', '--dry-run'], options);
      expect(would).toMatchObject({ dryRun: true, entries: 6, kept: entries - 6 });
      expect(existsSync(file('old.jsonl'))).toBe(false);
      await hodFails('file-unusable', ['ledger', 'compact', 'hod.yaml', '--older-than', '1d'], options);
      const { stdout, stderr } = await hod(['ledger', 'compact', 'old.jsonl'], options);
      expect(`${stderr}${stdout}`).toContain(`Moved 6 entries of skerry-small`);
      expect((await readFile(file('old.jsonl'), 'utf8')).trimEnd().split('\n')).toHaveLength(6);
      expect(await hodJson('ledger-compact', ['ledger', 'compact', 'more.jsonl'], options)).toMatchObject({
        entries: 0,
      });
      expect(existsSync(file('more.jsonl'))).toBe(false);
      if (kept !== 'a file') {
        const commits = git('rev-list', '--count', ref);
        expect(commits === '1').toBe(kept === 'git');
      }

      expect([await life('1.3.0'), await serves()]).toEqual(before);
      const { events } = await hodJson('timeline', ['timeline'], options);
      expect(events[0]).toMatchObject({ kind: 'compacted', detail: '6 entries of removed releases, into old.jsonl' });
      expect(events.map(({ version }) => version)).not.toContain('1.1.0');
      await hodFails('entries-compacted', ['timeline', '1.1.0'], options);
      const gone = await hodFails('content-gone', ['promote', 'uat', '--version', '1.1.0'], options);
      expect(JSON.stringify(gone)).toContain('keeps 1 release');
      await hodJson('prove', ['prove', 'uat', '--deep'], options);

      expect((await hodJson('ledger-verify', ['ledger', 'verify'], options)).compacted).toMatchObject({
        ...{ entries: 6, read: false, files: [{ file: 'old.jsonl', entries: 6, by: 'una' }] },
      });
      const whole = await hodJson('ledger-verify', ['ledger', 'verify', '--compacted', 'old.jsonl'], options);
      expect(whole.compacted?.read).toBe(true);
      await hodFails('entries-compacted', ['ledger', 'export', 'all.jsonl'], options);
      await hodJson('ledger-copy', ['ledger', 'export', 'all.jsonl', '--compacted', 'old.jsonl'], options);
      const text = await readFile(file('hod.yaml'), 'utf8');
      await writeFile(file('copy.yaml'), `${text.replace(/^ledger:.*$/m, '')}ledger: { file: copy.db }\n`);
      const copied = await hodJson('ledger-copy', ['ledger', 'import', 'all.jsonl', '-c', 'copy.yaml'], options);
      expect(copied.written).toBe(entries + 1);
      const again = await hodJson('ledger-copy', ['ledger', 'import', 'all.jsonl'], options);
      expect([again.written, again.present]).toEqual([0, entries + 1]);
      expect((await hodJson('ledger-verify', ['ledger', 'verify', '-c', 'copy.yaml'], options)).head).toBe(whole.head);

      if (kept !== 'a file') {
        // A clone that saw the ledger last at an entry that has moved since.
        await rename(file('.hod'), join(folder, 'now'));
        await rename(join(folder, 'long-ago'), file('.hod'));
        expect(await serves()).toEqual(before[1]);
      }

      // The same build as long ago: its content is there again, and tidying removes it again.
      await product.publish(1);
      expect((await hodJson('tidy', ['tidy', 'dev', '--remove'], options)).repositories).toHaveLength(3);
      await hodJson('prove', ['prove', '--all', '--deep'], options);
      if (kept === 'a file') {
        const database = new Database(file('.hod/ledger.db'));
        database.exec(`UPDATE entries SET text = '' WHERE seq = ${entries + 1}`);
        database.close();
        for (const command of [['ledger', 'verify'], ['timeline']]) {
          await hodFails('ledger-entry-corrupt', command, options);
        }
      }
    } finally {
      await product.remove();
      await servers.close();
      await rm(folder, { recursive: true, force: true });
    }
  },
);
