import { hodJson } from './hod';
import type { Served } from './registry-reader';
import type { EnvironmentName, SandboxWorld, World } from './world';

const platforms = ['linux-amd64', 'linux-arm64'] as const;

/** The image for each platform that an index under a tag names, by the name of its own tag. */
function imagesUnder(tag: string, { tags, manifests }: Served): Record<string, string> {
  const index: unknown = JSON.parse(manifests[tags[tag] ?? ''] ?? '{}');
  const listed = (index as { manifests?: { digest: string; platform: { os: string; architecture: string } }[] })
    .manifests;
  return Object.fromEntries(
    (listed ?? []).map(({ digest, platform: { os, architecture } }) => [`${os}-${architecture}`, digest]),
  );
}

/** Tags that lead to one image of an index, through a life of releases, at registries that remove tags or not. */
export function platformTagsSuite(
  kind: string,
  removesTags: boolean,
  start: () => Promise<Pick<SandboxWorld, 'world' | 'close'>>,
): void {
  describe(`tags of platforms, at ${kind}`, () => {
    let world: World;
    let close: () => Promise<void>;
    beforeEach(async () => {
      ({ world, close } = await start());
      const rules =
        'fixed: ["{version}", "{version}-{platform}"], moving: [uat, "uat-{platform}", "{major}.{minor}", "{major}.{minor}-{platform}"]';
      await world.configure('fixed: ["{version}"], moving: [uat]', rules);
    });
    afterEach(() => close());

    const timetable = async (environment: EnvironmentName = 'uat') => {
      const served = (await world.served(environment))['timetable'];
      return served ?? { tags: {}, manifests: {}, blobs: [] };
    };
    /** Each tag of a platform leads to the image that the index under its namesake names for it. */
    const expectBeside = async (...namesakes: string[]): Promise<void> => {
      const served = await timetable();
      for (const name of namesakes) {
        const images = imagesUnder(name, served);
        expect(Object.keys(images).sort()).toEqual([...platforms]);
        for (const platform of platforms) {
          expect([`${name}-${platform}`, served.tags[`${name}-${platform}`]]).toEqual([
            `${name}-${platform}`,
            images[platform],
          ]);
        }
      }
    };
    const release = async (note: string, part: string): Promise<void> => {
      await world.product.change('timetable', note);
      await world.product.build();
      await world.publish('--next', part);
      await world.promote('uat');
    };

    test('they are written, move, are restored and are rolled back with the release', async () => {
      await world.publish();
      const { components } = await world.promote('uat');
      await expectBeside('2.4.0', '2.4', 'uat');
      expect(components[0]?.tags.find(({ tag }) => tag === '2.4.0-linux-arm64')).toMatchObject({
        kind: 'fixed',
        platform: 'linux/arm64',
        outcome: 'created',
      });
      // A bundle runs nowhere: nothing is said of tags that it has not.
      const bundle = components.find(({ component }) => component === 'fare-tables');
      expect(bundle).toMatchObject({ omitted: [] });
      expect(bundle?.tags.map(({ tag }) => tag)).toEqual(['2.4.0', 'uat', '2.4']);
      const before = (await timetable()).tags;
      expect(await world.promote('uat')).toMatchObject({ components: [{ transfer: { blobsSent: 0 } }, {}, {}, {}] });

      await release('Show the winter sailings', 'minor');
      await expectBeside('2.5.0', '2.5', 'uat', '2.4.0', '2.4');
      expect((await timetable()).tags).toMatchObject({
        '2.4.0-linux-arm64': before['2.4.0-linux-arm64'],
        '2.4-linux-arm64': before['2.4-linux-arm64'],
      });

      // Somebody points one at another platform: status, prove and --restore treat it as any other tag.
      const port = world.readPorts.uat;
      const moved = (await timetable()).manifests[before['uat-linux-amd64'] ?? ''] ?? '';
      const put = await fetch(`http://127.0.0.1:${port}/v2/skerry/timetable/manifests/uat-linux-arm64`, {
        method: 'PUT',
        headers: { 'content-type': 'application/vnd.oci.image.manifest.v1+json' },
        body: Buffer.from(moved, 'latin1'),
      });
      expect(put.ok).toBe(true);
      for (const args of [
        ['status', 'uat', '--check'],
        ['prove', 'uat'],
      ]) {
        const { code, stdout } = await world.hod(...args);
        expect({ code, stdout }).toEqual({ code: 4, stdout: expect.stringContaining('uat-linux-arm64') });
      }
      expect((await world.hod('restore', 'uat')).stdout).toContain('uat-linux-arm64');
      await expectBeside('uat');

      const withdrawn = (await timetable()).tags['2.5-linux-arm64'];
      await hodJson('rollback', ['rollback', 'uat', '--reason', 'the sailings are wrong'], world.options);
      await expectBeside('2.4', 'uat', '2.5.0');
      const after = (await timetable()).tags;
      expect(after['uat-linux-arm64']).toBe(before['uat-linux-arm64']);
      // Where the registry keeps it, it leads to the image of what is served now, never to the index.
      expect(after['2.5-linux-arm64']).toBe(removesTags ? undefined : before['uat-linux-arm64']);
      expect(after['2.5-linux-arm64']).not.toBe(withdrawn);
      await hodJson('prove', ['prove', 'uat'], world.options);
    });

    test('a ledger that was lost knows them again, and adopting finds them', async () => {
      await world.publish();
      await world.promote('uat');
      await release('Show the winter sailings', 'minor');
      await world.configure(/$/, 'ledger: { file: again.db }\n');
      await hodJson('ledger-rebuild', ['ledger', 'rebuild'], world.options);
      await release('Show the spring sailings', 'minor');
      await expectBeside('2.6.0', '2.6', 'uat', '2.5', '2.4');

      await world.configure('again.db', 'adopted.db');
      await hodJson('adopt', ['adopt', 'dev', 'uat'], world.options);
      await release('Show the summer sailings', 'minor');
      await expectBeside('2.7.0', '2.7', 'uat', '2.6', '2.5');
      await hodJson('rollback', ['rollback', 'uat', '--reason', 'the sailings are wrong'], world.options);
      await expectBeside('2.6', 'uat');
    });
  });
}
