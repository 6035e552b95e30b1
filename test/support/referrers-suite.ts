import { cp, readFile, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { OtherClient } from './other-client';
import { hod, hodJson } from './hod';
import type { EnvironmentName, World } from './world';

const signature = 'application/vnd.skerry.signature.v1';
const bill = 'application/vnd.skerry.bill.v1+json';
const recordType = 'application/vnd.hod.release.v1+json';

/** What belongs to images goes along with them, whatever a registry says of it. `start`: a product that nothing was published of. */
export function referrersSuite(start: () => Promise<{ world: World; close: () => Promise<void> }>): void {
  let world: World;
  let close: () => Promise<void>;
  beforeAll(async () => {
    ({ world, close } = await start());
    await world.publish();
  });
  afterAll(() => close());

  const at = (environment: EnvironmentName, image = 'timetable'): OtherClient =>
    new OtherClient(world.readPorts[environment], `skerry/${image}`);
  /** Of an answer: what went along with an image. */
  const along = (answer: Awaited<ReturnType<World['promote']>>, component = 'timetable') =>
    answer.components.find((each) => each.component === component)?.referrers;

  test('signatures, bills of materials, chains, two hundred of them, and what stands under a tag arrive, byte for byte', async () => {
    const dev = at('dev');
    const index = await dev.subject('2.4.0');
    const [amd64, arm64] = await dev.members('2.4.0');
    if (amd64 === undefined || arm64 === undefined) {
      throw new Error('timetable is for two platforms');
    }
    await dev.attach(index, signature, 'signed by the harbour master');
    const made = await dev.attach(amd64, bill, '{"parts":["engine"]}');
    await dev.attach(made, signature, 'the bill is signed too');
    await dev.attach(arm64, signature, 'beside it, under a tag', '.sig');
    const crowd = at('dev', 'tide-watch');
    const watched = await crowd.subject('2.4.0');
    await crowd.attachAll(
      watched,
      bill,
      Array.from({ length: 200 }, (_, count) => `gauge ${count}`),
    );
    const rehearsed = await hodJson('promote', ['promote', 'uat', '--dry-run'], world.options);
    expect(along(rehearsed)).toEqual({ brought: 4, present: 0, left: [] });
    const promoted = await world.promote('uat');
    expect(along(promoted)).toEqual({ brought: 4, present: 0, left: [] });
    expect(along(promoted, 'tide-watch')).toEqual({ brought: 200, present: 0, left: [] });
    await world.promote('prod');
    const prod = at('prod');
    for (const subject of [index, amd64, arm64]) {
      // Their own records are there too, the same bytes in each environment.
      expect(await prod.everythingOn(subject.digest)).toEqual(await dev.everythingOn(subject.digest));
    }
    expect((await prod.everythingOn(index.digest)).size).toBe(4);
    expect(await at('prod', 'tide-watch').everythingOn(watched.digest)).toEqual(
      await crowd.everythingOn(watched.digest),
    );
    expect(await prod.text(`${arm64.digest.replace(':', '-')}.sig`)).toBe('beside it, under a tag');
  });

  test('what arrives later is brought by promoting again, and nothing else is', async () => {
    const dev = at('dev');
    const index = await dev.subject('2.4.0');
    await dev.attach(index, bill, '{"scanned":"later"}');
    const again = await world.promote('uat');
    expect(along(again)).toEqual({ brought: 1, present: 4, left: [] });
    expect(again.components.flatMap(({ tags }) => tags.map(({ outcome }) => outcome))).not.toContain('moved');
    const said = await world.hod('promote', 'uat');
    expect(said.stdout).toContain('Nothing to do: uat has skerry-line 2.4.0 ');
    expect(said.stdout).toContain('Referrers: 205 already there');
    expect((await at('uat').referrers(index.digest)).length).toBe(3);
  });

  test('a record of the release refers to each image, in each environment', async () => {
    for (const environment of ['dev', 'uat'] as const) {
      for (const image of ['timetable', 'fare-tables']) {
        const client = at(environment, image);
        const { digest } = await client.subject('2.4.0');
        const records = (await client.referrers(digest)).filter(({ artifactType }) => artifactType === recordType);
        expect(records.length).toBe(1);
        const record: unknown = JSON.parse(await client.text(records[0]?.digest ?? ''));
        expect(record).toMatchObject({
          product: 'skerry-line',
          version: '2.4.0',
          commit: world.product.head(),
          branch: 'main',
          components: [
            { component: 'boarding-gate' },
            { component: 'fare-tables' },
            { component: 'tide-watch' },
            { component: 'timetable' },
          ],
        });
      }
    }
  });

  test('an environment says what goes along, and may ask for it', async () => {
    const file = join(world.product.folder, 'hod.yaml');
    const before = await readFile(file, 'utf8');
    await world.configure(
      '    tags: { fixed: ["{version}"], moving: [uat] }',
      `$&\n    gates: { referrers: [${bill}] }`,
    );
    await world.product.change('timetable', 'Show the winter sailings');
    await world.product.build('winter');
    await world.publish('--branch', 'main');
    const refused = await world.fails('referrers-missing', 'promote', 'uat');
    expect(refused.why).toContain(`nothing of the type ${bill} refers to boarding-gate`);
    await writeFile(file, before);
    await world.configure('"{major}", latest] }', `"{major}", latest] }\n    referrers: { carry: [${signature}] }`);
    const { digest } = await at('dev').subject('2.4.0');
    await at('uat').attach(await at('uat').subject('2.4.0'), signature, 'signed in uat');
    await at('uat').attach(await at('uat').subject('2.4.0'), bill, '{"not":"this one"}');
    expect(along(await world.promote('prod'))?.brought).toBe(1);
    const types = (await at('prod').referrers(digest)).map(({ artifactType }) => artifactType);
    expect(types.filter((type) => type === signature).length).toBe(2);
    expect(types).not.toContain(bill);
    await writeFile(file, before);
  });

  test('what is listed and gone, or does not refer to what it is listed with, is left behind, and said', async () => {
    const uat = at('uat', 'fare-tables');
    const subject = await uat.subject('2.4.0');
    const listed = await uat.referrers(subject.digest);
    const other = await uat.attach({ ...subject, digest: `sha256:${'7'.repeat(64)}` }, signature, 'of something else');
    await uat.list(subject.digest, [...listed, other]);
    const run = await world.hod('promote', 'prod');
    expect(run).toMatchObject({ code: 0 });
    expect(run.stderr).toContain('or does not refer to it: left behind');
    expect((await at('prod', 'fare-tables').referrers(subject.digest)).length).toBe(listed.length);
    await uat.list(subject.digest, listed);
  });

  test('of two that bring something at the same time, neither loses what the other brought', async () => {
    const uat = at('uat', 'boarding-gate');
    const subject = await uat.subject('2.4.0');
    const configs = ['one', 'other'].map((name) => join(world.product.folder, `hod-${name}.yaml`));
    for (const [which, file] of configs.entries()) {
      await cp(join(world.product.folder, 'hod.yaml'), file);
      const type = which === 0 ? signature : bill;
      await world.configure('"{major}", latest] }', `"{major}", latest] }\n    referrers: { carry: [${type}] }`, file);
    }
    for (let round = 0; round < 4; round += 1) {
      await uat.attach(subject, signature, `signed, ${round}`);
      await uat.attach(subject, bill, `listed, ${round}`);
      const runs = configs.map((file) => hod(['promote', 'prod', '-c', file], world.options));
      for (const { code, stderr } of await Promise.all(runs)) {
        expect({ code, stderr }).toMatchObject({ code: 0 });
      }
      const there = (await at('prod', 'boarding-gate').referrers(subject.digest)).map(({ digest }) => digest);
      for (const { digest } of await uat.referrers(subject.digest)) {
        expect(there).toContain(digest);
      }
    }
  });
}
