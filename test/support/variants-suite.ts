import { readFile, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { hodJson } from './hod';
import { readRepository } from './registry-reader';
import { components, environments, type EnvironmentName, type SandboxWorld, type World } from './world';

/** Several components in one repository of each environment, told apart by their tags. */
export function variantsSuite(kind: string, start: () => Promise<Pick<SandboxWorld, 'world' | 'close'>>): void {
  test(`components share a repository where their tags cannot meet, at ${kind}`, async () => {
    const { world, close } = await start();
    await share(world);
    const tagsIn = async (environment: EnvironmentName) =>
      (await readRepository(world.readPorts[environment], 'skerry/line')).tags;

    const published = await world.publish();
    await world.promote('uat');
    await world.promote('prod');
    const served = new Map(published.components.map(({ component, digest }) => [component, digest]));
    for (const environment of environments) {
      const tags = await tagsIn(environment);
      for (const component of components) {
        expect([environment, component, tags[`${component}-2.4.0`]]).toEqual([
          environment,
          component,
          served.get(component),
        ]);
      }
    }

    // Deployment files: the tag, a value beside it, a comment or the digest says which component is meant.
    const file = join(world.product.folder, 'deploy.yaml');
    const [dev, prod] = [`${world.host('dev')}/skerry/line`, `${world.host('prod')}/skerry/line`];
    const lines = [
      `image: ${dev}:timetable-2.3.0`,
      `image: ${prod}@sha256:${'0'.repeat(64)} # tide-watch-2.3.0`,
      `image: ${prod}@${served.get('boarding-gate') ?? ''}`,
      `gate: { repository: ${prod}, tag: boarding-gate-2.3.0 }`,
    ];
    await writeFile(file, `${lines.join('\n')}\n`);
    await hodJson('point', ['point', 'prod', 'deploy.yaml'], world.options);
    expect((await readFile(file, 'utf8')).split('\n')).toEqual([
      `image: ${prod}@${served.get('timetable') ?? ''} # timetable-2.4.0`,
      `image: ${prod}@${served.get('tide-watch') ?? ''} # tide-watch-2.4.0`,
      `image: ${prod}@${served.get('boarding-gate') ?? ''}`,
      `gate: { repository: ${prod}, tag: boarding-gate-2.4.0@${served.get('boarding-gate') ?? ''} }`,
      '',
    ]);
    await writeFile(file, `image: ${prod}:latest\n`);
    expect((await world.fails('nothing-to-point', 'point', 'prod', 'deploy.yaml')).why).toContain(
      'has timetable, boarding-gate, tide-watch, fare-tables, and its tag does not say which is meant',
    );

    // The whole of the rest: a release of one of them, a rollback, proof, and a ledger that is made again.
    await world.product.change('timetable', 'Show the winter sailings');
    await world.product.build();
    const next = await world.publish('--next', 'minor');
    await world.promote('uat');
    await world.promote('prod');
    const winter = next.components.find(({ component }) => component === 'timetable')?.digest;
    expect(await tagsIn('prod')).toMatchObject({
      'timetable-2.5.0': winter,
      'timetable-prod': winter,
      'tide-watch-prod': next.components.find(({ component }) => component === 'tide-watch')?.digest,
    });
    await hodJson('rollback', ['rollback', 'prod', '--reason', 'the sailings are wrong'], world.options);
    expect((await tagsIn('prod'))['timetable-prod']).toBe(served.get('timetable'));
    const proof = await hodJson('prove', ['prove', '--all'], world.options);
    expect(proof.environments.map(({ findings }) => findings)).toEqual(environments.map(() => []));
    const before = await world.status();
    await world.configure(/$/, 'ledger: { file: again.db }\n');
    await hodJson('ledger-rebuild', ['ledger', 'rebuild'], world.options);
    const servedIn = ({ environments: all }: typeof before) =>
      all.map((each) => each.components.map(({ component, version, digest }) => [component, version, digest]));
    expect(servedIn(await world.status())).toEqual(servedIn(before));
    await world.configure('again.db', 'adopted.db');
    await hodJson('adopt', ['adopt', ...environments], world.options);
    const digestsIn = ({ environments: all }: typeof before) =>
      all.map((each) => Object.fromEntries(each.components.map(({ component, digest }) => [component, digest])));
    expect(digestsIn(await world.status())).toEqual(digestsIn(before));
    await close();
  });
}

/** Puts all components of each environment into one repository. */
async function share(world: World): Promise<void> {
  await world.configure(/skerry\/\{image\}/g, 'skerry/line');
  await world.configure(/"c-\{commit:12\}"/, '"{image}-{commit:12}"');
  await world.configure(/"\{version\}"/g, '"{image}-{version}"');
  await world.configure('moving: ["{branch}"]', 'moving: ["{image}-dev"]');
  await world.configure('moving: [uat]', 'moving: ["{image}-uat"]');
  await world.configure(/moving: \["\{major\}.*latest\]/, 'moving: ["{image}-prod"]');
}
