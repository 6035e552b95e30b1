import { startRealRegistry, type RealRegistry } from '../support/real-registry';
import { livesTheWholeDay } from '../support/whole-day';
import { World } from '../support/world';

const login = { username: 'una', password: 'gulls-and-terns' };
let registries: RealRegistry[];
let world: World;
afterEach(async () => {
  await Promise.all(registries.map((each) => each.close()));
  await world.remove();
});

async function startWorld(guarded: boolean): Promise<void> {
  const start = () => startRealRegistry(guarded ? login : undefined);
  const [dev, uat, prod] = await Promise.all([start(), start(), start()]);
  registries = [dev, uat, prod];
  const authorization = `Basic ${Buffer.from(`${login.username}:${login.password}`).toString('base64')}`;
  world = await World.create({ dev: dev.port, uat: uat.port, prod: prod.port }, guarded ? authorization : undefined);
}

test('the whole day against real registry servers', async () => {
  await startWorld(false);
  await livesTheWholeDay(world);
});

test('the whole day against real registry servers that ask for a login', async () => {
  await startWorld(true);
  expect((await world.fails(5, 'publish')).why).toContain('asks for a login');
  await world.useLogin(login);
  world.env = { ...world.env, SKERRY_PASSWORD: 'wrong' };
  expect((await world.fails(5, 'publish')).why).toContain('refused the login');
  world.env = { ...world.env, SKERRY_PASSWORD: login.password };
  await livesTheWholeDay(world);
});

test('within one real registry, content is mounted, and nothing is sent through Hod', async () => {
  await startWorld(false);
  await world.configure(`uat.localhost:${world.ports.uat}/skerry`, `dev.localhost:${world.ports.dev}/uat`);
  await world.publish();
  const { images } = await world.promote('uat');
  for (const { transfer } of images) {
    expect(transfer).toMatchObject({ blobsSent: 0, bytesSent: 0 });
    expect(transfer.blobsMounted).toBeGreaterThan(0);
  }
});
