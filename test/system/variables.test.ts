import { execFileSync } from 'node:child_process';
import { mkdir, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { layerOf, writePlainLayout } from '../support/archives';
import { hod, hodFails, hodJson, withoutProgress } from '../support/hod';
import { readRepository } from '../support/registry-reader';
import { sandboxWorld } from '../support/world';

describe('variables', () => {
  test('one base for three products, whose stages differ by what the jobs set: each is released where its job says', async () => {
    const { world, close } = await sandboxWorld();
    try {
      const root = join(world.folder, 'mono');
      const { dev, uat } = world.ports;
      await mkdir(root);
      await writeFile(
        join(root, 'base.yaml'),
        `variables: { stage: { env: SKERRY_STAGE, default: quiet }, dev: { env: SKERRY_DEV_HOST }, uat: { env: SKERRY_UAT_HOST } }
environments:
  dev: { follows: [main], repository: '{variable.dev}/{variable.stage}/{product}/{image}', tags: { fixed: ['c-{commit:12}'], moving: ['{branch}'] } }
  uat: { after: dev, repository: '{variable.uat}/{variable.stage}/{product}/{image}', tags: { fixed: ['c-{commit:12}'], moving: [uat] } }
registries: { '{variable.dev}': { tls: false } }
ledger: { file: ledger.db }
`,
      );
      const products = ['ferries', 'piers', 'tides'];
      for (const name of products) {
        await mkdir(join(root, name));
        await writePlainLayout(join(root, name, 'out'), {
          config: { architecture: 'amd64', os: 'linux', config: { Labels: { name } } },
          layers: [await layerOf('app', name)],
        });
        await writeFile(
          join(root, name, 'hod.yaml'),
          `extends: ../base.yaml\nproduct: ${name}\nimages: { api: { from: out } }\n${name === 'tides' ? "variables: { stage: 'loud' }\n" : ''}`,
        );
      }
      execFileSync('git', ['init', '-q', '-b', 'main'], { cwd: root });
      execFileSync('git', ['add', '.'], { cwd: root });
      const una = ['-c', 'user.name=una', '-c', 'user.email=una@skerry.test'];
      execFileSync('git', [...una, 'commit', '-qm', 'three products'], { cwd: root });
      const options = (env: Record<string, string>) => ({ cwd: root, env });
      const all = ['-c', '*/hod.yaml'];
      // What is missing is named at once; everything else can be checked without.
      const missing = await hodFails('config-invalid', ['config', 'check', '-c', 'piers/hod.yaml'], options({}));
      expect([missing.why].flat().join('\n')).toMatch(/2 things are wrong[^]*SKERRY_DEV_HOST[^]*SKERRY_UAT_HOST/);
      const unset = await hod(['config', 'check', '--without-variables', '-c', 'piers/hod.yaml'], options({}));
      expect(unset.code).toBe(0);
      const env = { SKERRY_DEV_HOST: `127.0.0.1:${dev}`, SKERRY_UAT_HOST: `127.0.0.1:${uat}` };
      const shown = await hodJson('config-show', ['config', 'show', '-c', 'tides/hod.yaml'], options(env));
      expect(shown.variables).toEqual([
        { name: 'stage', value: 'loud', env: null },
        { name: 'dev', value: `127.0.0.1:${dev}`, env: 'SKERRY_DEV_HOST' },
        { name: 'uat', value: `127.0.0.1:${uat}`, env: 'SKERRY_UAT_HOST' },
      ]);
      expect(shown.environments[1]?.components[0]?.repository).toBe(`127.0.0.1:${uat}/loud/tides/api`);
      const own = ['config', 'show', '--branch', 'tide/gauge', '-c', 'tides/hod.yaml'];
      const tags = (await hodJson('config-show', own, options(env))).environments[0]?.components[0]?.tags;
      expect(tags?.map(({ tag }) => tag)).toEqual([null, 'tide-gauge-kqnjsk']);
      for (const args of [['publish'], ['promote', 'uat']]) {
        const run = await hod([...args, ...all], options({ ...env, SKERRY_STAGE: 'north' }));
        expect({ code: run.code, stderr: withoutProgress(run.stderr) }).toMatchObject({ code: 0 });
      }
      for (const repository of ['north/ferries/api', 'north/piers/api', 'loud/tides/api']) {
        expect(Object.keys((await readRepository(uat, repository)).tags)).toContain('uat');
      }
      // A value that would end a part early, a name that is not declared, and places that say what content is.
      await writeFile(
        join(root, 'ferries', 'hod.yaml'),
        `extends: ../base.yaml
product: ferries
images:
  api: { from: 'out/{variable.stage}' }
  map: { from: '{variable.dve}/maps/map:1.0.0', platforms: ['linux/{variable.stage}'] }
announce: { pier: { url: 'https://{variable.stage}.test/', key: { env: '{variable.stage}' } } }
`,
      );
      const wrong = await hodFails('config-invalid', ['config', 'check', '-c', 'ferries/hod.yaml'], {
        ...options({ ...env, SKERRY_STAGE: 'x@evil.test/' }),
      });
      const why = [wrong.why].flat().join('\n');
      expect(why).toContain('stage: the value of SKERRY_STAGE must be what can stand in a host or path');
      expect(why).not.toContain('evil');
      expect(why).toContain('there is no variable dve; similar: dev');
      expect(why.match(/a variable cannot stand here/g)).toHaveLength(3);
    } finally {
      await close();
    }
  });
});
