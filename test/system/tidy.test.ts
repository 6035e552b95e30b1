import { readFile, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { hod, hodFails, hodJson } from '../support/hod';
import { OtherClient } from '../support/other-client';
import { SmallProduct } from '../support/small-product';
import { standInServers } from '../support/tidy-servers';
import { tidySuite } from '../support/tidy-suite';

tidySuite('stand-ins', ['both'], standInServers);

test('what no ledger knows goes only by its own date and when it is asked for; what another product has there stays', async () => {
  const servers = await standInServers('both');
  const product = await SmallProduct.create(servers);
  const { options } = product;
  const repository = new OtherClient(servers.dev, 'skerry/timetable');
  const tidy = async (...args: string[]) =>
    (await hodJson('tidy', ['tidy', 'dev', ...args], options)).repositories.find((each) =>
      each.repository.endsWith('/timetable'),
    );
  try {
    await product.keep('{ releases: 1, rollbacks: 0 }');
    for (const minor of [1, 2, 3]) {
      await product.publish(minor);
      if (minor === 1) {
        // Another product of the same ledger has the same image in the same repository.
        const text = await readFile(join(options.cwd, 'hod.yaml'), 'utf8');
        await writeFile(
          join(options.cwd, 'mail.yaml'),
          text.replace('skerry-small', 'skerry-mail').replace('[latest]', '[mail]'),
        );
        await hodJson(
          'publish',
          ['publish', '-c', 'mail.yaml', '--commit', '1'.padStart(40, 'a'), '--branch', 'main'],
          options,
        );
      }
    }
    const shared = await repository.subject('1.1.0');
    const old = await repository.image('old', '2024-02-03T04:05:06Z');
    await repository.tag('older-still', 'old');
    await repository.attach(await repository.subject('old'), 'application/vnd.skerry.note', 'scanned');
    await repository.image('fresh', new Date().toISOString());
    await repository.image('undated', undefined);
    await repository.image('epoch', '1970-01-01T00:00:00Z');

    const usual = await tidy();
    expect(usual?.unknown.sort()).toEqual(['epoch', 'fresh', 'old', 'older-still', 'undated']);
    expect(usual?.stays.find(({ digest }) => digest === shared.digest)?.reasons).toEqual([
      { why: 'shared', environment: null, of: 'skerry-mail' },
    ]);
    expect(usual?.goes.map(({ tags }) => tags)).toEqual([['1.2.0']]);
    await hodFails('options-conflict', ['tidy', 'dev', '--unknown'], options);

    const removed = await tidy('--unknown', '--older-than', '90d', '--remove');
    expect(removed?.goes.map(({ tags, referrers, outcome }) => [tags.sort(), referrers, outcome])).toEqual([
      [['1.2.0'], 1, 'removed'],
      [['old', 'older-still'], 1, 'removed'],
    ]);
    expect(removed?.unknown.sort()).toEqual(['epoch', 'fresh', 'undated']);
    expect(await repository.referrers(old)).toEqual([]);
    expect((await repository.subject('1.1.0')).digest).toBe(shared.digest);
    const { events } = await hodJson('timeline', ['timeline'], options);
    expect(events.map(({ detail }) => detail).join('\n')).toContain('1 unknown to the ledger');
  } finally {
    await product.remove();
    await servers.close();
  }
});

test('where no registry answers, the answer says so and the exit is 6', async () => {
  const servers = await standInServers('both');
  const product = await SmallProduct.create(servers);
  try {
    await product.keep('{ releases: 1, rollbacks: 0 }');
    for (const minor of [1, 2]) {
      await product.publish(minor);
    }
    await servers.close();
    for (const remove of [[], ['--remove']]) {
      const { code, stdout } = await hod(['tidy', 'dev', ...remove], product.options);
      expect(code).toBe(6);
      expect(stdout).toMatch(/^Could not look through 3 repositories\n/);
    }
  } finally {
    await product.remove();
  }
});
