import { createHash } from 'node:crypto';
import { readFile, rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { z } from 'zod';
import { OtherClient } from '../support/other-client';
import { referrersSuite } from '../support/referrers-suite';
import { hodJson } from '../support/hod';
import { sandboxWorld } from '../support/world';

const mediaType = 'application/vnd.oci.image.manifest.v1+json';
const listing = z.object({ manifests: z.array(z.looseObject({ digest: z.string() })) });

// Registries that list nothing: test/real/referrers.test.ts, against a real one.
referrersSuite(() => sandboxWorld());

test('what a builder writes beside an image goes up with it, staged or published, and is no image itself', async () => {
  const { world, close } = await sandboxWorld({ withoutReferrers: true });
  try {
    const layout = join(world.product.folder, 'out', 'tide-watch');
    const index = listing.parse(JSON.parse(await readFile(join(layout, 'index.json'), 'utf8')));
    const [image] = index.manifests;
    const write = async (text: string) => {
      const digest = createHash('sha256').update(text).digest('hex');
      await writeFile(join(layout, 'blobs', 'sha256', digest), text);
      return { digest: `sha256:${digest}`, size: Buffer.byteLength(text) };
    };
    const empty = { mediaType: 'application/vnd.oci.empty.v1+json', ...(await write('{}')) };
    const layer = { mediaType: 'application/vnd.skerry.bill.v1+json', ...(await write('{"parts":["gauge"]}')) };
    const artifact = async (more: object) => ({
      mediaType,
      ...(await write(JSON.stringify({ schemaVersion: 2, mediaType, config: empty, layers: [layer], ...more }))),
    });
    const bill = await artifact({ artifactType: layer.mediaType, subject: image });
    const beside = await artifact({});
    const tag = `${image?.digest.replace(':', '-') ?? ''}.bill`;
    const named = { ...beside, annotations: { 'org.opencontainers.image.ref.name': tag } };
    await writeFile(
      join(layout, 'index.json'),
      JSON.stringify({ schemaVersion: 2, manifests: [bill, ...index.manifests, named] }),
    );
    await hodJson('stage', ['stage', 'tide-watch'], world.options);
    const dev = new OtherClient(world.ports.dev, 'skerry/tide-watch');
    expect((await dev.referrers(image?.digest ?? '')).map(({ digest }) => digest)).toEqual([bill.digest]);
    const published = await world.publish();
    const along = published.components.find((each) => each.component === 'tide-watch')?.referrers;
    expect(along).toEqual({ brought: 0, present: 2, left: [] });
    expect((await dev.subject(tag)).digest).toBe(beside.digest);
    // What was added to what stands under the tag in the meantime is not lost.
    await dev.attach({ ...bill, digest: image?.digest ?? '' }, layer.mediaType, 'another', '.bill');
    const again = await world.publish();
    expect(again.components.find((each) => each.component === 'tide-watch')?.referrers).toEqual({
      brought: 0,
      present: 1,
      left: [`${world.repository('dev', 'tide-watch')}:${tag}`],
    });
    expect((await world.hod('publish')).stdout).toContain('Left alone: something else stands there');
  } finally {
    await close();
  }
});

const recordType = 'application/vnd.hod.release.v1+json';

test('of what does not go along, there may be any number', async () => {
  const { world, close } = await sandboxWorld({ withoutReferrers: true, trusting: true });
  try {
    await world.publish();
    const dev = new OtherClient(world.ports.dev, 'skerry/tide-watch');
    const { digest } = await dev.subject('2.4.0');
    const listed = Array.from({ length: 10_001 }, (_, at) => ({
      mediaType,
      digest: `sha256:${createHash('sha256').update(String(at)).digest('hex')}`,
      size: 9,
      artifactType: 'application/vnd.skerry.scan',
    }));
    await dev.list(digest, listed);
    await world.fails('too-many-manifests', 'promote', 'uat');
    await world.configure('after: dev', 'after: dev\n    referrers: { carry: [application/vnd.skerry.bill] }');
    expect((await world.promote('uat')).to).toBe('uat');
  } finally {
    await close();
  }
});

test('a release record that a list calls something else does not travel, and one that is no hash of its content is none', async () => {
  const { world, close } = await sandboxWorld({ withoutReferrers: true });
  try {
    const published = await world.publish();
    const dev = new OtherClient(world.ports.dev, 'skerry/tide-watch');
    const subject = await dev.subject('2.4.0');
    const forged = JSON.stringify({
      product: 'skerry-line',
      release: `sha256:${'7'.repeat(64)}`,
      version: '9.9.9',
      commit: published.commit,
      components: published.components.map(({ component, digest, mediaType: type, platforms }) => {
        return { component, digest, mediaType: type, size: 9, platforms };
      }),
    });
    const before = await dev.referrers(subject.digest);
    const record = await dev.attach(subject, recordType, forged);
    const called = { ...record, artifactType: 'application/vnd.skerry.note' };
    await dev.list(subject.digest, [...before, called]);
    await world.promote('uat');
    const uat = new OtherClient(world.ports.uat, 'skerry/tide-watch');
    expect((await uat.referrers(subject.digest)).map(({ digest }) => digest)).not.toContain(record.digest);
    await dev.list(subject.digest, [...before, record]);
    await rm(join(world.product.folder, '.hod'), { recursive: true });
    const rebuilt = await world.hod('ledger', 'rebuild', '--dry-run', '--json');
    expect([rebuilt.code, rebuilt.stdout.includes('9.9.9')]).toEqual([0, false]);
  } finally {
    await close();
  }
});
