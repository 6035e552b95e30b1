import { git, GitRemoteRepository } from './git-remote';
import { hodJson } from './hod';
import { LateTeam, type Digests } from './late-team';
import { playLines, readPage, sectionOf, shellBlocks } from './play-page';
import type { EnvironmentName, SandboxWorld, World } from './world';

/** A world that the suite is played in; `requests` where they are seen. */
type AdoptionWorld = Pick<SandboxWorld, 'world' | 'close'> & Partial<Pick<SandboxWorld, 'requests'>>;

/** A team comes to Hod with releases that it has, at registries of a kind, with a ledger in a file or in git. */
export function adoptionSuite(kind: string, ledger: 'file' | 'git', start: () => Promise<AdoptionWorld>): void {
  describe(`a team comes late, at ${kind}, with its ledger in ${ledger}`, () => {
    let world: World;
    let requests: AdoptionWorld['requests'];
    let close: () => Promise<void>;
    let team: LateTeam;
    beforeEach(async () => {
      ({ world, close, requests } = await start());
      if (ledger === 'git') {
        git(world.product.folder, ['remote', 'add', 'origin', new GitRemoteRepository({ partial: true }).path]);
      }
      team = new LateTeam(world, ledger === 'git' ? ['ledger: { git: { remote: origin } }'] : []);
    });
    afterEach(() => close());

    const adopt = (...args: string[]) => hodJson('adopt', ['adopt', ...args], world.options);
    const tagsIn = async (environment: EnvironmentName) =>
      Object.fromEntries(
        Object.entries(await world.served(environment))
          .filter(([image]) => image === 'boarding-gate' || image === 'tide-watch')
          .map(([image, { tags }]) => [image, tags]),
      );
    const serves = async (environment: EnvironmentName) => {
      const { environments } = await world.status(environment);
      return Object.fromEntries(
        (environments[0]?.components ?? []).map(({ component, version, digest, lines }) => [
          component,
          { version, digest, lines: lines.map((line) => line.version) },
        ]),
      );
    };

    test('what was tagged by hand for a year is adopted, and goes on as if Hod had been there', async () => {
      const { v240, v250, newest } = await team.live();
      const before = { dev: await tagsIn('dev'), uat: await tagsIn('uat'), prod: await tagsIn('prod') };
      await world.fails('fixed-tag-taken', 'adopt', 'prod', '--version', '2.4.0');
      const page = await readPage('docs/adopting.md');
      const dry = await adopt('dev', 'uat', 'prod', '--dry-run');
      expect((await world.hod('status')).stdout).toMatch(/ledger is empty/);
      for (const seen of Object.values(requests ?? {})) {
        seen.length = 0;
      }
      const said = await playLines(shellBlocks(sectionOf(page, 'Adopt'))[0] ?? '', world);
      expect(said).toMatch(/Adopted prod: it serves 2\.5\.0, 2\.4\.0\n/);
      expect(said).toMatch(/Proved: prod serves what was adopted/);
      expect((await adopt('dev', 'uat', 'prod')).environments).toEqual(
        dry.environments.map(({ components, ...each }) => {
          return { ...each, components: components.map((component) => ({ ...component, known: true })) };
        }),
      );
      // No tag moved, nothing was added, and nothing else was tried.
      const methods = Object.values(requests ?? {}).flatMap((seen) => seen.map(({ method }) => method));
      expect(methods.filter((method) => method !== 'GET' && method !== 'HEAD')).toEqual([]);
      expect({ dev: await tagsIn('dev'), uat: await tagsIn('uat'), prod: await tagsIn('prod') }).toEqual(before);
      const of = (digests: Digests, version: string | null, ...lines: string[]) => ({
        'boarding-gate': { version, digest: digests['boarding-gate'], lines },
        'tide-watch': { version, digest: digests['tide-watch'], lines },
      });
      expect(await serves('dev')).toEqual(of(newest, null));
      expect(await serves('uat')).toEqual(of(v250, '2.5.0'));
      expect(await serves('prod')).toEqual({
        'boarding-gate': { version: '2.5.0', digest: v250['boarding-gate'], lines: ['2.4.0'] },
        'tide-watch': { version: '2.4.0', digest: v240['tide-watch'], lines: ['2.5.0'] },
      });
      expect((await world.hod('status', '--check')).code).toBe(0);
      // Again is safe.
      expect((await world.hod('adopt', 'dev', 'uat', 'prod')).stdout.match(/Nothing to do: /g)).toHaveLength(3);
      expect((await world.hod('ledger', 'verify')).code).toBe(0);

      // The tag that was taken back by hand goes forward again, through the gates.
      const refused = await world.fails('result-missing', 'promote', 'prod');
      expect(refused.why).toMatch(/the release was adopted/);
      await hodJson('record-result', ['record', 'result', 'smoke', '--passed', '--in', 'uat'], world.options);
      await world.promote('prod');
      expect((await tagsIn('prod'))['tide-watch']).toMatchObject({
        latest: v250['tide-watch'],
        '2.5': v250['tide-watch'],
      });

      // The next release.
      await team.build({});
      const [, next = ''] = (shellBlocks(sectionOf(page, 'The next release'))[0] ?? '').split('./build.sh\n');
      expect(await playLines(next, world)).toMatch(/Published skerry-line 2\.6\.0 /);
      expect(await serves('prod')).toEqual(of(v250, '2.5.0', '2.4.0'));
      await hodJson('rollback', ['rollback', 'uat', '--reason', 'the gate stays open'], world.options);
      expect(await serves('uat')).toEqual(of(v250, '2.5.0'));
      for (const image of ['boarding-gate', 'tide-watch'] as const) {
        expect((await tagsIn('prod'))[image]).toMatchObject({
          latest: v250[image],
          '2': v250[image],
          '2.4': v240[image],
        });
      }
      expect((await world.hod('prove', 'dev', 'uat', 'prod')).code).toBe(0);
      expect((await world.hod('timeline')).stdout).toMatch(/adopted +prod +2\.5\.0.*Hod from now on/);
      expect((await world.fails('served-already', 'adopt', 'prod')).next).toMatch(/hod promote prod/);
    });

    test('images that do not say what they are, and what is not there', async () => {
      await team.describe();
      const nothing = await world.fails('nothing-to-adopt', 'adopt', 'uat', 'prod');
      expect(nothing.why).toMatch(/boarding-gate: .* has no tags/);
      const page = await readPage('docs/adopting.md');
      const build = await team.build();
      git(world.product.folder, ['tag', '--force', 'v2.3.0']);
      git(world.product.folder, ['tag', '--delete', 'v2.4.0']);
      // The gate has neither label nor version; of the gauge, prod has nothing.
      const digests = await team.tag(build, 'uat', ['uat', '2.2.2-not-ours'], ['boarding-gate']);
      await team.tag(build, 'prod', ['2.3.0', '1.9'], ['boarding-gate']);
      const { object, why } = await world.fails('origin-unknown', 'adopt', 'uat', 'prod', '--only', 'boarding-gate');
      expect(`${object} ${why}`).toMatch(/boarding-gate in uat .* no label or annotation/);
      await playLines(shellBlocks(sectionOf(page, 'An image that does not say what it is'))[0] ?? '', world);
      expect(await serves('uat')).toMatchObject({
        'boarding-gate': { version: '2.3.0', digest: digests['boarding-gate'], lines: [] },
      });
      // Only its version tells what the tag of a line leads to.
      const [prod] = (await adopt('prod')).environments;
      expect(prod).toMatchObject({
        components: [{ version: '2.3.0', told: { version: 'tag', commit: 'git tag' }, way: 'takes-over' }],
        absent: [{ component: 'tide-watch' }],
      });
      // The gauge names the commit of its base image, and another image stands under the version of prod.
      const foreign = 'f'.repeat(40);
      const other = await team.build({ tag: 'v2.3.1', foreign });
      await team.tag(other, 'dev', ['main'], ['tide-watch']);
      const stranger = await world.fails('origin-unknown', 'adopt', 'dev');
      expect(stranger.why).toMatch(/ffffffffffff, which git does not have here/);
      await team.tag(other, 'dev', ['2.3.0', 'main'], ['boarding-gate', 'tide-watch']);
      const dev = await adopt('dev', 'prod', '--dry-run');
      expect(dev.contradictions).toMatchObject([{ component: 'boarding-gate', version: '2.3.0' }]);
    });
  });
}
