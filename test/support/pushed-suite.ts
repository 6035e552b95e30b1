import { join } from 'node:path';
import { execFileSync } from 'node:child_process';
import { createHash } from 'node:crypto';
import { mkdir, readFile, rm, writeFile } from 'node:fs/promises';
import { pushLayout } from './builder';
import { hodJson } from './hod';
import { OtherClient } from './other-client';
import { playLines, readPage, sectionOf, shellBlocks } from './play-page';
import { readRepository } from './registry-reader';
import type { SandboxWorld, World } from './world';

/** Writes a layout that holds an artifact that is no image. Answers the bytes of its manifest, and its digest. */
async function writeChart(folder: string): Promise<{ chart: string; digest: string }> {
  await mkdir(join(folder, 'blobs', 'sha256'), { recursive: true });
  const write = async (mediaType: string, text: string) => {
    const hex = createHash('sha256').update(text).digest('hex');
    await writeFile(join(folder, 'blobs', 'sha256', hex), text);
    return { mediaType, digest: `sha256:${hex}`, size: text.length };
  };
  const config = await write('application/vnd.skerry.chart.config.v1+json', '{"name":"tides"}');
  const layers = [await write('application/vnd.skerry.chart.v1.tar', 'high tide at noon')];
  const mediaType = 'application/vnd.oci.image.manifest.v1+json';
  const chart = JSON.stringify({ schemaVersion: 2, mediaType, config, layers });
  const root = await write(mediaType, chart);
  await writeFile(join(folder, 'oci-layout'), '{"imageLayoutVersion":"1.0.0"}');
  await writeFile(join(folder, 'index.json'), JSON.stringify({ schemaVersion: 2, manifests: [root] }));
  return { chart, digest: root.digest };
}

/** Releases of images that builders pushed, at registries of a kind. */
export function pushedSuite(kind: string, start: () => Promise<Pick<SandboxWorld, 'world' | 'close'>>): void {
  describe(`builders push, at ${kind}`, () => {
    let world: World;
    let close: () => Promise<void>;
    let commit: string;
    beforeEach(async () => {
      ({ world, close } = await start());
      commit = world.product.head().slice(0, 12);
    });
    afterEach(() => close());

    const out = (name: string): string => join(world.product.folder, 'out', name);
    const from = (component: string, text: string): Promise<void> =>
      world.configure(new RegExp(`( {2}${component}:\n(?: {4}(?!from).*\n)*? {4}from: ).*`), (line) =>
        line.replace(/(from: ).*$/, `$1${text}`),
      );
    const served = (environment: 'dev' | 'uat' | 'prod', component: string) =>
      readRepository(world.readPorts[environment], `skerry/${component}`);

    test('from another registry: the digest that the builder printed is published, promoted, proved and rolled back to', async () => {
      const place = `${world.host('uat')}/build/tide-watch`;
      const pushed = await pushLayout(world.readPorts.uat, 'build/tide-watch', out('tide-watch'), `c-${commit}`);
      const builder = new OtherClient(world.readPorts.uat, 'build/tide-watch');
      const report = await builder.attach(await builder.subject(pushed), 'application/vnd.skerry.report', 'all well');
      await rm(out('tide-watch'), { recursive: true });
      await from('tide-watch', `"${place.replace('tide-watch', '{image}')}:c-{commit:12}"`);
      expect((await world.hod('config', 'check')).stdout).toContain(
        `tide-watch is read in a registry: ${world.host('uat')}/build/{image}:c-{commit:12}`,
      );
      const access = await hodJson('access-check', ['access', 'check', 'dev'], world.options);
      expect(access.sources).toMatchObject([{ kind: 'built', repository: place, read: { allowed: 'yes' } }]);

      const dry = await world.publish('--dry-run');
      expect(dry.components.find(({ component }) => component === 'tide-watch')?.digest).toBe(pushed);
      const published = await world.publish();
      const own = published.components.find(({ component }) => component === 'tide-watch');
      expect(own).toMatchObject({ digest: pushed, platforms: ['linux/amd64', 'linux/arm64'] });
      await world.promote('uat');
      await world.promote('prod');
      for (const environment of ['dev', 'uat', 'prod'] as const) {
        expect((await served(environment, 'tide-watch')).tags['2.4.0']).toBe(pushed);
        const listed = await new OtherClient(world.readPorts[environment], 'skerry/tide-watch').referrers(pushed);
        expect(listed.map(({ digest }) => digest)).toContain(report.digest);
      }
      expect((await world.publish()).components.map(({ transfer }) => transfer.bytesSent)).toEqual([0, 0, 0, 0]);

      // The next build; then back to what the builder pushed first, which is not built again.
      commit = (await world.product.change('tide-watch', 'Read the gauge at Gull Rock')).slice(0, 12);
      await world.product.build();
      await pushLayout(world.readPorts.uat, 'build/tide-watch', out('tide-watch'), `c-${commit}`);
      await rm(out('tide-watch'), { recursive: true });
      await world.publish('--version', '2.5.0');
      await world.promote('uat');
      expect((await served('uat', 'tide-watch')).tags['uat']).not.toBe(pushed);
      await hodJson('rollback', ['rollback', 'uat', '--reason', 'turnstiles stay shut'], world.options);
      expect((await served('uat', 'tide-watch')).tags['uat']).toBe(pushed);
      expect((await world.hod('prove', 'dev', 'uat', 'prod')).code).toBe(0);
    });

    test('into the repository of dev itself: nothing but tags is written, and the tag of the builder stays; beside it: mounted', async () => {
      const pushed = await pushLayout(world.readPorts.dev, 'skerry/tide-watch', out('tide-watch'), 'built');
      const before = await served('dev', 'tide-watch');
      const place = `${world.repository('dev', 'tide-watch')}:built`;
      await rm(out('tide-watch'), { recursive: true });
      const published = await world.publish('--from', `tide-watch=${place}`);
      const own = published.components.find(({ component }) => component === 'tide-watch');
      expect(own).toMatchObject({ digest: pushed, transfer: { bytesSent: 0, blobsSent: 0, blobsMounted: 0 } });
      const after = await served('dev', 'tide-watch');
      expect(after.tags).toMatchObject({ built: pushed, '2.4.0': pushed, main: pushed });
      expect(after.blobs).toEqual(expect.arrayContaining(before.blobs));

      // Beside it in the same registry: mounted, and nothing sent.
      await world.product.change('tide-watch', 'Read the gauge at Gull Rock');
      await world.product.build();
      const beside = await pushLayout(world.readPorts.dev, 'build/tide-watch', out('tide-watch'), 'built');
      const next = await world.publish('--from', `tide-watch=${world.host('dev')}/build/tide-watch:built`);
      const mounted = next.components.find(({ component }) => component === 'tide-watch');
      expect(mounted).toMatchObject({ digest: beside, transfer: { bytesSent: 0, blobsSent: 0 } });
      expect(mounted?.transfer.blobsMounted).toBeGreaterThan(0);
    });

    test('the lines of the page; a single image stays a single manifest, to prod and back', async () => {
      const page = sectionOf(await readPage('docs/outputs.md'), 'Builders that push');
      const here = (text: string): string =>
        text.replaceAll('build.registry.test/skerry', `${world.host('uat')}/build`).replace('sha256:…', index);
      const index = await pushLayout(world.readPorts.uat, 'build/timetable', out('tide-watch'), `c-${commit}`);
      const single = await pushLayout(world.readPorts.uat, 'build/timetable', out('timetable-amd64'), 'amd64');
      await from('timetable', here(/from: ('.*')/.exec(page)?.[1] ?? ''));
      const said = await playLines(here(shellBlocks(page)[0] ?? ''), world);
      expect(said).toMatch(/Published skerry-line 2\.4\.0 [^]*Nothing to do: [^]*Staged /);
      expect((await served('dev', 'timetable')).tags['2.4.0']).toBe(index);
      expect(Object.keys((await served('dev', 'timetable')).manifests)).toContain(single);

      await world.configure('platforms: [linux/amd64, linux/arm64]', 'platforms: [linux/amd64]');
      await world.product.change('timetable', 'Show the winter sailings');
      await world.product.build();
      const pushed = await pushLayout(world.readPorts.uat, 'build/timetable', out('timetable-amd64'), 'amd64');
      const place = `${world.host('uat')}/build/timetable:amd64`;
      const published = await world.publish('--version', '2.5.0', '--from', `timetable=${place}`);
      expect(published.components.find(({ component }) => component === 'timetable')).toMatchObject({
        ...{ digest: pushed, mediaType: 'application/vnd.oci.image.manifest.v1+json', platforms: ['linux/amd64'] },
      });
      for (const environment of ['uat', 'prod'] as const) {
        await world.promote(environment, '--version', '2.4.0');
        await world.promote(environment, '--version', '2.5.0');
        expect((await served(environment, 'timetable')).tags['2.5.0']).toBe(pushed);
      }
      await hodJson('rollback', ['rollback', 'prod', '--reason', 'turnstiles stay shut'], world.options);
      expect((await served('prod', 'timetable')).tags['latest']).toBe(index);
      expect((await world.hod('prove', 'dev', 'uat', 'prod')).code).toBe(0);
    });

    test('an artifact of another type, from a layout and pushed: released as what it is', async () => {
      const { chart, digest } = await writeChart(out('tide-chart'));
      const type = 'application/vnd.skerry.chart.config.v1+json';
      await world.configure('images:\n', 'images:\n  tide-chart: { from: out/tide-chart }\n');
      await world.configure('after: dev\n', 'after: dev\n    gates: { platforms: [linux/amd64] }\n');
      const published = await world.publish();
      expect(published.components[0]).toMatchObject({
        ...{ component: 'tide-chart', kind: 'artifact', artifactType: type, digest, platforms: [] },
      });
      const promoted = await world.promote('uat');
      expect(promoted.components[0]).toMatchObject({ kind: 'artifact', artifactType: type, digest });
      const { manifests } = await served('uat', 'tide-chart');
      expect(manifests[digest]).toBe(chart);
      const said = await world.hod('publish', '--verbose');
      expect(said.stdout).toMatch(new RegExp(`tide-chart +${type.replaceAll(/[.+]/g, '.')}`));
      const place = `${world.host('uat')}/build/tide-chart`;
      await pushLayout(world.readPorts.uat, 'build/tide-chart', out('tide-chart'), 'built');
      const again = await world.publish('--from', `tide-chart=${place}:built`);
      expect(again.components[0]).toMatchObject({ kind: 'artifact', digest, transfer: { bytesSent: 0 } });
    });

    test('each platform by a builder of its own: one index, of staged references or of a list', async () => {
      const parts: string[] = [];
      await mkdir(out('timetable-arm64'));
      execFileSync('tar', ['-xf', out('timetable-arm64.tar'), '-C', out('timetable-arm64')]);
      for (const part of ['amd64', 'arm64']) {
        parts.push(await pushLayout(world.readPorts.uat, 'build/timetable', out(`timetable-${part}`), part));
      }
      const place = (part: string): string => `${world.host('uat')}/build/timetable:${part}`;
      for (const [at, part] of ['amd64', 'arm64'].entries()) {
        const staged = await hodJson(
          'stage',
          ['stage', 'timetable', '--from', place(part), '--platform', `linux/${part}`],
          world.options,
        );
        expect(staged.components).toMatchObject([{ digest: parts[at], platforms: [`linux/${part}`] }]);
      }
      await rm(out('timetable-amd64'), { recursive: true });
      await rm(out('timetable-arm64.tar'));
      const [first] = (await world.publish()).components;
      const index: unknown = JSON.parse((await served('dev', 'timetable')).manifests[first?.digest ?? ''] ?? '{}');
      expect(index).toMatchObject({ manifests: parts.map((digest) => ({ digest })) });

      await from('timetable', `["registry:${place('amd64')}", "${place('arm64')}"]`);
      expect((await world.publish()).components[0]).toMatchObject({ digest: first?.digest });

      // From a pipe too: the same archive, the same digest.
      const next = await world.product.change('timetable', 'Show the winter sailings');
      await world.product.build();
      const piped = await hodJson('stage', ['stage', 'timetable', '--from', '-'], {
        ...world.options,
        input: await readFile(out('timetable-arm64.tar')),
      });
      const filed = await hodJson('stage', ['stage', 'timetable', '--from', out('timetable-arm64.tar')], world.options);
      expect(filed).toMatchObject({
        commit: next,
        components: [{ digest: piped.components[0]?.digest, outcome: 'unchanged' }],
      });
    });

    test('what is not there, of another commit, or unclear is refused, and nothing is tagged', async () => {
      const place = `${world.host('uat')}/build/tide-watch`;
      await rm(out('tide-watch'), { recursive: true });
      await from('tide-watch', `${place}:c-{commit:12}`);
      const missing = await world.fails('output-missing', 'publish');
      expect(missing.why).toContain(`its registry does not have ${place}:c-${commit}`);
      await world.product.build();
      await pushLayout(world.readPorts.uat, 'build/tide-watch', out('tide-watch'), 'latest');
      await world.product.change('tide-watch', 'Read the gauge at Gull Rock');
      await from('tide-watch', `${place}:latest`);
      expect((await world.fails('other-build', 'publish')).object).toContain('commit');
      await from('tide-watch', `${place}:{build}`);
      expect((await world.fails('output-missing', 'publish')).why).toBe('nothing is known for {build}');
      expect((await world.fails('options-conflict', 'publish', '--from', `gate=${place}:latest`)).why).toContain(
        'gate',
      );
      expect((await world.fails('not-a-reference', 'stage', 'tide-watch', '--from', `registry:${place}`)).why).toMatch(
        /:tag/,
      );
      await from('tide-watch', `"registry:${place}"`);
      expect((await world.hod('config', 'check')).stderr).toContain('names a repository');
      expect((await served('dev', 'tide-watch')).tags).toEqual({});
    });
  });
}
