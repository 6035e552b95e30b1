import { hod, hodFails, hodJson } from './hod';
import { readRepository } from './registry-reader';
import { SmallProduct } from './small-product';

/** How registries of a suite remove things. */
export type Removing = 'both' | 'tags' | 'manifests' | 'none' | 'pretended';

/** Two registries. */
export interface TidyServers {
  readonly dev: number;
  readonly uat: number;
  /** Runs the garbage collectors of the registries, where they have any. */
  readonly collect?: () => Promise<void>;
  readonly close: () => Promise<void>;
}

const has = async (port: number, digest: string): Promise<boolean> => {
  const headers = { accept: 'application/vnd.oci.image.index.v1+json', connection: 'close' };
  return (await fetch(`http://127.0.0.1:${port}/v2/skerry/timetable/manifests/${digest}`, { headers })).ok;
};

/** Tidies a product at servers that remove things in each of some ways: the built program, and a reader of its own. */
export function tidySuite(
  where: string,
  ways: readonly Removing[],
  serve: (removing: Removing) => Promise<TidyServers>,
): void {
  describe.each(ways)(`${where}, which remove: %s`, (removing) => {
    let servers: TidyServers;
    let product: SmallProduct;
    beforeEach(async () => {
      servers = await serve(removing);
      product = await SmallProduct.create(servers);
      await product.keep('{ releases: 2, rollbacks: 1 }');
    });
    afterEach(async () => {
      await product.remove();
      await servers.close();
    });
    const removesContent = removing === 'both' || removing === 'manifests';

    const tagsIn = async (): Promise<Record<string, string>> =>
      (await readRepository(servers.dev, 'skerry/timetable')).tags;
    const tidy = (...args: string[]) => hodJson('tidy', ['tidy', 'dev', ...args], product.options);

    test('what may go goes, what is needed stays whole, and both are told', async () => {
      const { options } = product;
      for (const minor of [1, 2, 3, 4, 5, 6]) {
        await product.publish(minor);
        if (minor === 2 || minor === 4) {
          await hodJson('promote', ['promote', 'uat'], options);
        }
      }
      const before = await tagsIn();
      const [first = '', third = ''] = [before['1.1.0'], before['1.3.0']];
      await tagByHand(servers.dev, first, 'mine');

      // What would go, and why the rest stays.
      const would = await tidy();
      expect(would).toMatchObject({ dryRun: true, environments: [{ environment: 'dev', keep: '2 releases' }] });
      const found = would.repositories.find(({ repository }) => repository.endsWith('/timetable'));
      expect(found?.goes.map(({ digest }) => digest)).toEqual([third]);
      expect(found?.goes[0]).toMatchObject({ tags: ['1.3.0'], outcome: 'goes', releases: [{ version: '1.3.0' }] });
      const why = (version: string): string | undefined =>
        found?.stays.find(({ digest }) => digest === before[version])?.reasons[0]?.why;
      expect(['1.1.0', '1.2.0', '1.4.0', '1.5.0', '1.6.0'].map(why)).toEqual([
        ...['tag', 'released', 'served', 'rollback', 'served'],
      ]);
      expect(found?.unknown).toEqual(['mine']);
      expect(found?.frees ?? 0).toBeGreaterThan(0);
      const { growth } = await hodJson('status', ['status', 'dev', '--growth'], options);
      const grown = growth?.find(({ repository }) => repository.endsWith('/timetable'));
      expect(grown).toMatchObject({ digests: 6, weeks: [{ added: 6, removed: 0 }] });
      expect(grown?.shares.map(({ why, digests }) => [why, digests])).toEqual([
        ...[
          ['served', 1],
          ['served', 1],
          ['rollback', 1],
          ['released', 1],
          ['led', 1],
          ['goes', 1],
        ],
      ]);
      // What goes frees its part, beside the referrers of it that no tag leads to.
      expect(grown?.shares.at(-1)?.bytes ?? 0).toBeGreaterThan(0);
      expect(await tagsIn()).toEqual({ ...before, mine: first });

      const did = await tidy('--remove');
      const gone = did.repositories.flatMap(({ goes }) => goes);
      expect(new Set(gone.map(({ outcome }) => outcome))).toEqual(new Set([removesContent ? 'removed' : 'left']));
      await servers.collect?.();
      // Everything that has a tag still is whole: each byte is read.
      const after = await tagsIn();
      const rest = Object.fromEntries(Object.entries({ ...before, mine: first }).filter(([tag]) => tag !== '1.3.0'));
      expect(after).toMatchObject(rest);
      expect(Object.keys(after).includes('1.3.0')).toBe(['none', 'pretended'].includes(removing));
      expect(await has(servers.dev, third)).toBe(!removesContent);
      expect(gone[0]?.why ?? '').toMatch(removesContent ? /^$/ : /registry/);
      await product.tags();

      const [again] = (await tidy('--remove')).repositories.filter(({ repository }) =>
        repository.endsWith('/timetable'),
      );
      expect(again?.goes.length).toBe(removesContent ? 0 : 1);
      const proof = await hodJson('prove', ['prove', '--all', '--deep'], options);
      expect(proof.environments.flatMap(({ findings }) => findings)).toEqual([]);
      expect((await hod(['ledger', 'verify'], options)).code).toBe(0);
      expect((await hod(['status', '--check'], options)).code).toBe(0);

      const { events } = await hodJson('timeline', ['timeline', '1.3.0'], options);
      expect(events.map(({ kind }) => kind)).toContain('removed');
      if (removesContent) {
        // Whoever looks for it learns when it went, and by which rule.
        const missing = await hodFails(
          'image-missing',
          ['show', `dev.localhost:${servers.dev}/skerry/timetable:1.3.0`],
          options,
        );
        expect([missing.why].flat().join(' ')).toMatch(/removed it with `hod tidy` on .* \(dev keeps 2 releases\)/);
        const named = `dev.localhost:${servers.dev}/skerry/timetable@${third}`;
        const [known] = (await hodJson('identify', ['identify', named], options)).found;
        expect(known?.removed).toMatchObject({ state: 'removed', rule: 'dev keeps 2 releases' });
        const listed = await hodJson('tags', ['tags', 'timetable', '--env', 'dev'], options);
        expect(listed.repositories[0]?.tidied).toMatchObject({ digests: 1, rule: 'dev keeps 2 releases' });
        const refused = await hodFails('content-gone', ['promote', 'uat', '--version', '1.3.0'], options);
        expect([refused.why].flat().join(' ')).toMatch(/removed it with `hod tidy` on .* \(dev keeps 2 releases\)/);
      }
      // The build runs again: what it made is there again, and can go on.
      await product.publish(3);
      expect((await tagsIn())['1.3.0']).toBe(third);
      await hodJson('rollback', ['rollback', 'dev', '--reason', 'it leaks'], options);
      expect((await tagsIn())['latest']).toBe(before['1.5.0']);
      expect(
        (await tidy('--remove')).repositories.flatMap(({ goes }) => goes.filter((each) => each.digest === third)),
      ).toEqual(removesContent ? [] : expect.anything());
    });
  });
}

/** Gives a tag to a manifest with the means of somebody else. */
async function tagByHand(port: number, digest: string, tag: string): Promise<void> {
  const type = 'application/vnd.oci.image.index.v1+json';
  const base = `http://127.0.0.1:${port}/v2/skerry/timetable/manifests`;
  const got = await fetch(`${base}/${digest}`, { headers: { accept: type, connection: 'close' } });
  const put = { method: 'PUT', headers: { 'content-type': type, connection: 'close' }, body: await got.arrayBuffer() };
  expect((await fetch(`${base}/${tag}`, put)).status).toBe(201);
}
