import Database from 'libsql';
import { readFile, rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import type { ProveResult } from '../../src/results/prove';
import { OtherClient } from './other-client';
import { hodJson } from './hod';
import { components, type EnvironmentName, type World } from './world';

const signature = 'application/vnd.skerry.signature.v1';

/** A product whose registries keep their content in files. */
export interface TamperedWorld {
  readonly world: World;
  /** The file that holds a blob. */
  readonly blobFile: (environment: EnvironmentName, digest: string) => string;
  readonly close: () => Promise<void>;
}

/** What was done to a registry or a ledger by hand is named, and nothing else is; what the finding says puts it right. */
export function proveSuite(start: () => Promise<TamperedWorld>): void {
  let world: World;
  let tampered: TamperedWorld;
  const at = (environment: EnvironmentName, component = 'timetable'): OtherClient =>
    new OtherClient(world.readPorts[environment], `skerry/${component}`);
  const prove = (...args: string[]): Promise<ProveResult> => hodJson('prove', ['prove', ...args], world.options);
  /** What a proof finds, where it ends with an exit code. */
  const findings = async (exit: number, ...args: string[]) => {
    const { code, stdout } = await world.hod('prove', ...args, '--json');
    const result = JSON.parse(stdout) as ProveResult;
    expect(code).toBe(exit);
    return result.environments.flatMap((each) => each.findings.map(({ finding, object }) => `${finding} ${object}`));
  };
  const name = (component: string, reference: string): string => `${world.repository('prod', component)}${reference}`;
  let digest: string;
  let layer: string;

  beforeAll(async () => {
    tampered = await start();
    world = tampered.world;
    await world.publish();
    const dev = at('dev');
    ({ digest } = await dev.subject('2.4.0'));
    await dev.attach(await dev.subject('2.4.0'), signature, 'signed');
    await world.promote('uat');
    await world.promote('prod');
    const [amd64] = await dev.members('2.4.0');
    layer = (await dev.layers(amd64?.digest ?? '')).at(-1) ?? '';
  });
  afterAll(() => tampered.close());

  test('what was published and tested is proved, by asking and by reading', async () => {
    const { environments } = await prove('--all');
    expect(environments.map(({ findings: found }) => found)).toEqual([[], [], []]);
    const [proof] = (await prove('prod', '--deep')).environments;
    expect(proof?.findings).toEqual([]);
    expect(proof?.looked.bytes).toBeGreaterThan(10_000);
    expect(proof?.looked.referrers).toBe(5);
    const said = await world.hod('prove', 'prod');
    expect(said.stdout).toContain('Proved: prod serves what was published and tested');
    await world.fails('options-conflict', 'prove');
    await world.fails('options-conflict', 'prove', 'prod', '--all');
  });

  test('tags that were moved, changed or removed', async () => {
    const gate = at('prod', 'boarding-gate');
    const [child] = await gate.members('2.4.0');
    await gate.tag('latest', child?.digest ?? '');
    expect(await findings(4, 'prod')).toEqual([`moving-tag-moved ${name('boarding-gate', ':latest')}`]);
    await world.promote('prod');
    expect(await findings(0, '--all')).toEqual([]);
    const whole = (await gate.subject('2.4.0')).digest;
    await gate.tag('2.4.0', child?.digest ?? '');
    expect(await findings(4, 'prod')).toEqual([`fixed-tag-changed ${name('boarding-gate', ':2.4.0')}`]);
    await gate.tag('2.4.0', whole);
    // Another environment tells of a fixed tag of the one before.
    await at('uat', 'tide-watch').tag('2.4.0', (await at('uat', 'tide-watch').members('2.4.0'))[0]?.digest ?? '');
    const changed = `fixed-tag-changed ${world.repository('uat', 'tide-watch')}:2.4.0`;
    expect(await findings(4, 'prod')).toEqual([changed]);
    expect(await findings(4, '--all')).toEqual([changed]);
    await at('uat', 'tide-watch').tag('2.4.0', (await at('uat', 'tide-watch').subject('uat')).digest);
    expect(await findings(0, '--all')).toEqual([]);
  });

  test('a blob that is gone, which publishing and promoting again send', async () => {
    const file = tampered.blobFile('prod', layer);
    const bytes = await readFile(file);
    await rm(file);
    expect(await findings(4, 'prod')).toEqual([`content-gone ${name('timetable', `@${layer}`)}`]);
    const without = await world.promote('prod');
    expect(without.components.every(({ transfer }) => transfer.blobsSent === 0)).toBe(true);
    const said = await world.hod('promote', 'prod', '--version', '2.4.0', '--mend');
    expect(said.stdout).toContain('Mended skerry-line 2.4.0');
    expect(await readFile(file)).toEqual(bytes);
    expect(await findings(0, '--all', '--deep')).toEqual([]);
    await rm(tampered.blobFile('dev', layer));
    expect((await world.hod('publish')).stdout).toContain('Nothing to do');
    const mended = await world.publish('--mend');
    expect(mended.components.map(({ component, transfer }) => [component, transfer.blobsSent])).toContainEqual([
      'timetable',
      1,
    ]);
    expect(await findings(0, '--all')).toEqual([]);
    expect((await world.hod('publish', '--mend')).stdout).toContain('Nothing to do');
  });

  test('bytes that changed on the disk of the registry, where they are read', async () => {
    const file = tampered.blobFile('prod', layer);
    const bytes = await readFile(file);
    const changed = Buffer.from(bytes);
    changed[0] = (changed[0] ?? 0) ^ 1;
    await writeFile(file, changed);
    expect(await findings(7, 'prod', '--deep')).toEqual([`content-changed ${name('timetable', `@${layer}`)}`]);
    await writeFile(file, bytes);
    const manifest = tampered.blobFile('prod', digest);
    const text = await readFile(manifest, 'utf8');
    await writeFile(manifest, text.replace('"schemaVersion":2', '"schemaVersion": 2'));
    const found = await findings(7, 'prod');
    expect(found).toContain(`content-changed ${name('timetable', `@${digest}`)}`);
    await writeFile(manifest, text);
    expect(await findings(0, '--all', '--deep')).toEqual([]);
  });

  test('a signature and a release record that are gone', async () => {
    const prod = at('prod');
    for (const { digest: referrer, artifactType } of await prod.referrers(digest)) {
      await prod.detach(digest, referrer);
      const finding = artifactType === signature ? 'referrer-gone' : 'record-gone';
      expect(await findings(4, 'prod')).toEqual([`${finding} ${name('timetable', `@${referrer}`)}`]);
      await world.promote('prod', '--version', '2.4.0', '--mend');
      expect(await findings(0, 'prod')).toEqual([]);
    }
  });

  test('what a release record holds, which all images share', async () => {
    const prod = at('prod');
    const record = (await prod.referrers(digest)).find(({ artifactType }) => artifactType !== signature);
    const [blob = ''] = await prod.layers(record?.digest ?? '');
    await rm(tampered.blobFile('prod', blob));
    const found = await findings(4, 'prod');
    expect(found.sort()).toEqual(components.map((component) => `content-gone ${name(component, `@${blob}`)}`).sort());
    await world.promote('prod', '--mend');
    expect(await findings(0, 'prod')).toEqual([]);
  });

  test('evidence that was never recorded, and a repository that hod.yaml does not name any more', async () => {
    const file = join(world.product.folder, 'hod.yaml');
    const before = await readFile(file, 'utf8');
    await world.configure('"{major}", latest] }', '"{major}", latest] }\n    gates: { results: [smoke] }');
    // What today's rules ask for, and those of its time did not, is a note.
    const notes = async () => (await hodJson('prove', ['prove', 'prod'], world.options)).environments[0]?.notes;
    expect(await notes()).toEqual([
      { note: 'required-today', object: '2.4.0 in prod', detail: 'no result of `smoke` in uat is recorded for 2.4.0' },
    ]);
    await world.hod('record', 'result', 'smoke', '--passed', '--in', 'uat');
    expect(await notes()).toEqual([]);
    // What is there already is mended, whatever rules came since.
    await world.hod('record', 'result', 'smoke', '--failed', '--in', 'uat');
    expect((await world.hod('promote', 'prod', '--mend')).code).toBe(0);
    await writeFile(file, before.replaceAll('/skerry/{image}', '/skerries/{image}'));
    await world.fails('repository-changed', 'prove', 'prod');
    await writeFile(file, before);
  });

  test('tags of older releases, put right by one command; after a rollback no tag leads to what was withdrawn', async () => {
    const [before, gate] = [await world.served('prod'), at('prod', 'boarding-gate')];
    await world.product.change('timetable', 'Show the winter sailings');
    await world.product.build('winter');
    await world.publish('--version', '2.5.0');
    await world.promote('uat');
    await world.promote('prod');
    const newer = (await gate.subject('2.5.0')).digest;
    await gate.tag('2.4', newer);
    await gate.tag('2.4.0', newer);
    expect((await findings(4, 'prod')).sort()).toEqual([
      `fixed-tag-changed ${name('boarding-gate', ':2.4.0')}`,
      `moving-tag-moved ${name('boarding-gate', ':2.4')}`,
    ]);
    expect((await world.hod('status', '--check')).code).toBe(4);
    expect((await world.hod('restore', 'prod', '--dry-run')).stdout).toContain('Would restore 2 tags of prod');
    const restored = await hodJson('restore', ['restore', 'prod'], world.options);
    expect(restored.components.flatMap(({ tags }) => tags.map(({ tag, outcome }) => `${tag} ${outcome}`))).toEqual([
      '2.4 restored',
      '2.4.0 restored',
    ]);
    expect((await world.served('prod'))['boarding-gate']?.tags).toMatchObject(
      Object.fromEntries(Object.entries(before['boarding-gate']?.tags ?? {}).filter(([tag]) => /^2\.4/.test(tag))),
    );
    expect(await findings(0, '--all')).toEqual([]);
    expect((await world.hod('status', '--check')).code).toBe(0);
    expect((await world.hod('restore', 'prod')).stdout).toContain('Nothing to do');
    expect((await world.hod('timeline', '--kind', 'restored')).stdout).toContain('2.4, 2.4.0');

    for (let time = 0; time < 2; time += 1) {
      await hodJson('rollback', ['rollback', 'prod', '--reason', 'turnstiles stay shut'], world.options);
      const after = await world.served('prod');
      for (const component of components) {
        const bad = after[component]?.tags['2.5.0'];
        const good = before[component]?.tags['2.4.0'];
        const leading = Object.entries(after[component]?.tags ?? {}).filter(([, target]) => target === bad);
        expect(leading.map(([tag]) => tag)).toEqual(bad === good ? expect.anything() : ['2.5.0']);
      }
      expect(await findings(0, '--all')).toEqual([]);
      expect((await world.hod('status', '--check')).code).toBe(0);
    }
    await gate.tag('2.5', newer);
    expect(await findings(4, 'prod')).toEqual([`withdrawn-tag-stands ${name('boarding-gate', ':2.5')}`]);
    await hodJson('restore', ['restore', 'prod'], world.options);
    expect(await findings(0, '--all')).toEqual([]);
  });

  test('an entry of the ledger that was edited', async () => {
    const database = new Database(join(world.product.folder, '.hod', 'ledger.db'));
    database.exec("UPDATE entries SET text = replace(text, '2.4.0', '2.4.9') WHERE seq = 2");
    database.close();
    expect((await world.fails('ledger-entry-corrupt', 'ledger', 'verify')).object).toContain('entry 2');
  });
}
