import { environments, components, type World } from './world';

/**
 * The main job from end to end, against whatever registries the world has: publish, promote,
 * promote, and then everything that must not change anything.
 *
 * @param extraRequests How many requests more than usual an unchanged publish may take in all.
 */
export async function livesTheWholeDay(world: World, extraRequests = 0): Promise<void> {
  const published = await world.publish();
  expect(published).toMatchObject({ product: 'skerry-line', version: '2.4.0', branch: 'main', environment: 'dev' });
  expect(published.components.map(({ component }) => component)).toEqual(components);
  await world.promote('uat');
  const promoted = await world.promote('prod');
  expect(promoted).toMatchObject({
    version: '2.4.0',
    from: 'uat',
    to: 'prod',
    components: components.map(() => ({ way: 'takes-over' })),
  });

  // The bytes, not Hod's word: every manifest and blob is read over HTTP and compared.
  const served = await Promise.all(environments.map((name) => world.served(name)));
  for (const { component, digest, platforms } of published.components) {
    const [dev, uat, prod] = served.map((all) => all[component]);
    expect(Object.keys(dev?.manifests ?? {})).toHaveLength(1 + platforms.length);
    expect(uat?.manifests).toEqual(dev?.manifests);
    expect(prod?.manifests).toEqual(dev?.manifests);
    expect(uat?.blobs).toEqual(dev?.blobs);
    expect(prod?.blobs).toEqual(dev?.blobs);
    const commitTag = `c-${published.commit.slice(0, 12)}`;
    expect(dev?.tags).toEqual({ [commitTag]: digest, '2.4.0': digest, main: digest });
    expect(uat?.tags).toEqual({ '2.4.0': digest, uat: digest });
    expect(prod?.tags).toEqual({ '2.4.0': digest, '2.4': digest, '2': digest, latest: digest });
  }

  const again = await world.publish();
  for (const { transfer, tags } of again.components) {
    expect(transfer).toMatchObject({ blobsSent: 0, blobsMounted: 0, bytesSent: 0 });
    expect(tags.every(({ outcome }) => outcome === 'unchanged')).toBe(true);
  }
  const requests = again.components.reduce((sum, { transfer }) => sum + transfer.requests, 0);
  expect(requests).toBeLessThanOrEqual(3 * components.length + extraRequests);
  await world.promote('prod');

  // Another build under a commit or version that is taken: refused, and nothing changes.
  await world.product.build('built again, otherwise');
  const refused = await world.fails('fixed-tag-taken', 'publish');
  const taken = published.components[0];
  // The bundle holds the same files as before, so its tags are still right.
  const rebuilt = published.components.filter(({ kind }) => kind === 'image').length;
  expect(refused.object).toContain(`${world.repository('dev', 'timetable')}:2.4.0`);
  expect(refused.object).toContain(`:c-${published.commit.slice(0, 12)}`);
  expect(refused.why).toContain(taken?.digest);
  expect(refused.why?.match(/sha256:[a-f0-9]{64}/g)).toHaveLength(2 * 2 * rebuilt);
  expect(refused.next).toContain('new version');
  expect(await Promise.all(environments.map((name) => world.served(name)))).toEqual(served);

  const board = await world.status();
  for (const { environment, components: rows } of board.environments) {
    expect(rows.map(({ component, version, drift }) => [component, version, drift.state])).toEqual(
      components.map((component) => [component, '2.4.0', 'none']),
    );
    expect(rows.map(({ repository }) => repository)).toEqual(
      components.map((component) =>
        world.repository(environments.find((name) => name === environment) ?? 'dev', component),
      ),
    );
  }
}
