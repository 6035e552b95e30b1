import { spawnSync } from 'node:child_process';
import { existsSync } from 'node:fs';
import { mkdir, mkdtemp, rm, utimes, writeFile } from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { dirname, join } from 'node:path';
import { hod, hodFails, hodJson } from '../support/hod';

const day = 24 * 60 * 60 * 1000;

test('tidy --here removes what killed runs left on the machine a day ago, and nothing else', async () => {
  const folder = await mkdtemp(join(tmpdir(), 'hod-here-'));
  const [state, user, temporary] = ['.hod', 'config/hod', 'tmp'].map((name) => join(folder, name)) as [
    string,
    string,
    string,
  ];
  const options = { cwd: folder, env: { XDG_CONFIG_HOME: dirname(user), TMPDIR: temporary } };
  const ended = spawnSync(process.execPath, ['-e', '0']).pid;
  const unfinished = (name: string): string => `.${name}.5d0c1b7e-3f2a-4c55-9d0a-7b1f0a2c4e11.new`;
  const goes = [
    join(state, 'uploads', 'old.json'),
    join(state, unfinished('ledger.db')),
    join(user, unfinished('logins.json')),
    join(temporary, `hod-run-${ended}-Ab12Cd`, 'key'),
  ];
  const stays = [
    join(state, 'ledger.db'),
    join(state, 'ledger.db-wal'),
    join(state, 'contents.jsonl'),
    join(state, 'notes.txt'),
    join(state, 'git', 'objects-1', 'pack', unfinished('pack')),
    join(user, 'logins.json'),
    join(temporary, `hod-run-${process.pid}-Ab12Cd`, 'key'),
    join(temporary, 'hod-run-notes', 'mine'),
    join(temporary, 'hod-demo-Ab12Cd', 'hod.yaml'),
  ];
  const fresh = [
    join(state, 'uploads', 'fresh.json'),
    join(state, unfinished('ledger.db').replace('5d0c', 'aaaa')),
    join(temporary, `hod-run-${ended}-Ef34Gh`, 'key'),
  ];
  try {
    await writeFile(
      join(folder, 'hod.yaml'),
      'product: skerry-here\nimages: { pier: { from: out/pier } }\nenvironments: { dev: { repository: "dev.registry.test/{image}", tags: { moving: [dev] } } }\n',
    );
    for (const file of [...goes, ...stays, ...fresh]) {
      await mkdir(dirname(file), { recursive: true });
      await writeFile(file, 'x'.repeat(100));
      const at = new Date(Date.now() - (fresh.includes(file) ? day / 2 : 2 * day));
      await utimes(file, at, at);
      await utimes(dirname(file), at, at);
    }
    const there = (files: readonly string[]): boolean[] => [...new Set(files.map((file) => existsSync(file)))];

    const asked = await hodJson('tidy-here', ['tidy', '--here'], options);
    expect(asked.dryRun).toBe(true);
    expect(there(goes)).toEqual([true]);
    const all = asked.kept.map((each) => [each.kind, each.goes.files]);
    expect(all.sort()).toEqual([
      ['contents', 0],
      ['git', 0],
      ['ledger', 0],
      ['other', 0],
      ['temporary', 1],
      ['unfinished', 1],
      ['unfinished', 1],
      ['uploads', 1],
      ['user', 0],
    ]);
    await hodFails('options-conflict', ['tidy', 'dev', '--here'], options);

    const { stdout } = await hod(['tidy', '--here', '--remove'], options);
    expect(stdout).toContain('Removed 4 files (400 B) on this machine');
    expect(there(goes)).toEqual([false]);
    expect(there([...stays, ...fresh])).toEqual([true]);
    const again = await hodJson('tidy-here', ['tidy', '--here', '--remove'], options);
    expect(again.kept.every((each) => each.goes.files === 0)).toBe(true);
  } finally {
    await rm(folder, { recursive: true, force: true });
  }
});
