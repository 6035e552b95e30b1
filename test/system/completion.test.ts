import { execFileSync, spawnSync } from 'node:child_process';
import { mkdir, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { hod, program } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

let sandbox: SandboxWorld;
beforeAll(async () => {
  sandbox = await sandboxWorld();
  await sandbox.world.publish();
});
afterAll(() => sandbox.close());

async function next(...words: string[]): Promise<string[]> {
  const run = await hod(['completion', 'next', '--', ...words], sandbox.world.options);
  expect(run).toMatchObject({ code: 0, stderr: '' });
  return run.stdout.split('\n').filter((line) => line !== '');
}

test('commands, options, and names that hod.yaml and the ledger know', async () => {
  expect(await next('pro')).toEqual(['promote', 'prove']);
  expect(await next('ledger', '')).toEqual(['accept', 'compact', 'export', 'import', 'rebuild', 'verify']);
  expect(await next('promote', '')).toEqual(['dev', 'prod', 'uat']);
  expect(await next('promote', 'uat', '--ver')).toEqual(['--verbose', '--version']);
  expect(await next('promote', 'uat', '--version', '')).toEqual(['2.4.0']);
  expect(await next('promote', '--only', 't')).toEqual(['tide-watch', 'timetable']);
  expect(await next('publish', '--next', 'm')).toEqual(['major', 'minor']);
  expect(await next('publish', 'timetable', 'b')).toEqual(['boarding-gate']);
  expect(await next('record', 'result', 'smoke', '--in', 'u')).toEqual(['uat']);
  expect(await next('compare', 'prod', '2')).toEqual(['2.4.0']);
  expect(await next('point', 'prod', '')).toEqual([]);
  expect(await next('nonsense', '')).toEqual([]);
});

test('in a real shell, and where there is no product at all', async () => {
  const { world } = sandbox;
  const bin = join(world.folder, 'bin');
  await mkdir(bin);
  await writeFile(join(bin, 'hod'), `#!/bin/sh\nexec ${process.execPath} ${program} "$@"\n`, { mode: 0o755 });
  const typed = `source <(hod completion bash); COMP_WORDS=(hod promote u); COMP_CWORD=2; _hod; echo "\${COMPREPLY[@]}"`;
  const env = { PATH: `${bin}:${process.env['PATH'] ?? ''}` };
  const said = execFileSync('bash', ['--norc', '-c', typed], { cwd: world.product.folder, env, encoding: 'utf8' });
  expect(said).toBe('uat\n');
  const nowhere = spawnSync('bash', ['--norc', '-c', typed], { cwd: world.folder, env, encoding: 'utf8' });
  expect([nowhere.stdout, nowhere.stderr]).toEqual(['\n', '']);
  for (const shell of ['zsh', 'fish']) {
    expect((await hod(['completion', shell], world.options)).stdout).toContain('hod completion next -- ');
  }
});
