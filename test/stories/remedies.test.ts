import { cp, rm, writeFile } from 'node:fs/promises';
import { join } from 'node:path';
import { hod, hodJson } from '../support/hod';
import { sandboxWorld, type SandboxWorld, type World } from '../support/world';

/** Something goes wrong, and the command that is printed for it puts it right. */
interface Remedy {
  readonly name: string;
  /** Brings about what goes wrong. */
  readonly before: (world: World) => Promise<unknown>;
  readonly command: string;
  /** The command that is to be printed: the last one where several are. */
  readonly next: RegExp;
  /** What a person writes in place of what is left open: `…`, `FILE`, an actor. */
  readonly filled?: Readonly<Record<string, string>>;
  readonly more?: readonly string[];
  /** What is run again in the end; the command itself where nothing is said. */
  readonly again?: string;
}

const publish = (world: World) => world.publish();
const toUat = async (world: World) => [await world.publish(), await world.promote('uat')];
const withGates = async (world: World, gates: string) => {
  await world.configure('after: uat', `after: uat\n    gates: ${gates}`);
  await toUat(world);
};
const change = async (world: World, note: string): Promise<void> => {
  await world.product.change('timetable', note);
  await world.product.build();
};
const promoteAll = async (world: World) => [await toUat(world), await world.promote('prod')];
const second = async (world: World, ...environments: string[]): Promise<void> => {
  await change(world, 'Show the winter sailings');
  await world.publish('--version', '2.5.0');
  for (const environment of environments) {
    await world.promote(environment);
  }
};
/** 2.5.0 came to uat, and was rolled back. */
const rolledBack = async (world: World): Promise<void> => {
  await toUat(world);
  await second(world, 'uat');
  await hodJson('rollback', ['rollback', 'uat', '--reason', 'the sailings are wrong'], world.options);
};
const manifestsInUat = ({ ports }: World): string => `http://127.0.0.1:${ports.uat}/v2/skerry/timetable/manifests`;
/** Somebody removes a tag by hand, or a manifest: at the registry itself. */
const removed = async (world: World, reference: string): Promise<void> => {
  expect((await fetch(`${manifestsInUat(world)}/${reference}`, { method: 'DELETE' })).ok).toBe(true);
};
/** Somebody points a tag of an environment to what another one leads to. */
const pointed = async (world: World, tag: string, to: string): Promise<void> => {
  const base = manifestsInUat(world);
  const type = 'application/vnd.oci.image.index.v1+json';
  const body = await (await fetch(`${base}/${to}`, { headers: { accept: type } })).text();
  expect((await fetch(`${base}/${tag}`, { method: 'PUT', body, headers: { 'content-type': type } })).ok).toBe(true);
};
const inFolder = (world: World, ...path: string[]) => join(world.product.folder, ...path);

const remedies: readonly Remedy[] = [
  {
    name: 'nothing was published',
    before: () => Promise.resolve(),
    command: 'promote uat',
    next: /run `(hod publish)` where nothing was published yet/,
  },
  {
    name: 'nothing came into the environment before',
    before: publish,
    command: 'promote prod',
    next: /run `(hod promote uat)` first/,
  },
  {
    name: 'a release that skips an environment',
    before: publish,
    command: 'promote prod --version 2.4.0',
    next: /run `(hod promote uat --version 2\.4\.0)` first/,
  },
  {
    name: 'a result is missing',
    before: (world) => withGates(world, '{ results: [smoke] }'),
    command: 'promote prod',
    next: /`(hod record result smoke --passed --in uat --version 2\.4\.0)`/,
  },
  {
    name: 'a sign-off is missing',
    before: (world) => withGates(world, '{ sign-offs: 1 }'),
    command: 'promote prod',
    next: /`(hod record sign-off --for prod --version 2\.4\.0)`/,
    more: ['--actor', 'siv'],
  },
  {
    name: 'the environment before does not serve it',
    before: async (world) => {
      await withGates(world, '{ soak: 1s }');
      await second(world);
    },
    command: 'promote prod --version 2.5.0',
    next: /`(hod promote uat --version 2\.5\.0)`/,
    again: 'status uat --check',
  },
  {
    name: 'what was rolled back is promoted again',
    before: rolledBack,
    command: 'promote uat',
    next: /(--again --reason "…") brings this one back on purpose/,
    filled: { '--again': 'hod promote uat --again', '…': 'it was right' },
  },
  {
    name: 'a rollback to what was never served',
    before: async (world) => {
      await toUat(world);
      await second(world);
    },
    command: 'rollback uat --to 2.5.0 --reason never',
    next: /`(hod promote uat)` brings in other releases/,
    again: 'status uat --check',
  },
  {
    name: 'a tag was moved by hand to what was rolled back',
    before: async (world) => {
      await rolledBack(world);
      await pointed(world, 'uat', '2.5.0');
    },
    command: 'prove uat',
    next: /`(hod restore uat)`/,
  },
  {
    name: 'an environment of the ledger is adopted after a tag was moved by hand',
    before: async (world) => {
      await toUat(world);
      await second(world, 'uat');
      await pointed(world, 'uat', '2.4.0');
    },
    command: 'adopt uat',
    next: /`(hod restore uat)` puts/,
    again: 'status uat --check',
  },
  {
    name: 'a build failed',
    before: async (world) => {
      const end = inFolder(world, 'out', 'build-failed');
      await writeFile(end, world.product.head());
      expect((await hod(['stage', '--follow', 'out'], world.options)).code).not.toBe(0);
      await rm(end);
    },
    command: 'publish',
    next: /`(hod stage)`/,
  },
  {
    name: 'a build output is missing',
    before: async (world) => {
      await cp(inFolder(world, 'out', 'tide-watch'), inFolder(world, 'elsewhere'), { recursive: true });
      await rm(inFolder(world, 'out', 'tide-watch'), { recursive: true });
    },
    command: 'publish',
    next: /`(hod stage)`/,
    more: ['tide-watch', '--from', 'elsewhere'],
  },
  {
    name: 'a tag was moved by hand',
    before: async (world) => {
      await toUat(world);
      await removed(world, 'uat');
    },
    command: 'prove uat',
    next: /`(hod restore uat)`/,
  },
  {
    name: 'content of what is served is gone',
    before: async (world) => {
      await toUat(world);
      const { environments } = await world.status('uat');
      const found = environments[0]?.components.find(({ component }) => component === 'timetable');
      await removed(world, found?.digest ?? '');
    },
    command: 'prove uat',
    next: /send it again: `(hod promote uat [^`]*)`/,
  },
  {
    name: 'the ledger is not there, and the registries have releases',
    before: async (world) => {
      await promoteAll(world);
      await rm(inFolder(world, '.hod'), { recursive: true });
    },
    command: 'promote prod',
    next: /`(hod ledger rebuild)`/,
  },
  {
    name: 'something that was never published is asked for',
    before: publish,
    command: 'timeline 3.0.0',
    next: /`(hod timeline)`/,
    again: 'timeline',
  },
];

let sandbox: SandboxWorld;
beforeEach(async () => (sandbox = await sandboxWorld()));
afterEach(() => sandbox.close());

test.each(remedies)('$name: the command that is printed mends it', async (remedy) => {
  const { world } = sandbox;
  await remedy.before(world);
  const words = (line: string): string[] =>
    [...line.matchAll(/"([^"]*)"|(\S+)/g)].map(([, quoted, bare]) => quoted ?? bare ?? '');
  const failed = await world.hod(...words(remedy.command));
  expect(failed.code).not.toBe(0);
  const said = `${failed.stdout}${failed.stderr}`.replace(/\s+/g, ' ');
  const [, found = ''] = remedy.next.exec(said) ?? [];
  expect({ said, found }).toEqual({ said, found: expect.stringMatching(/./) });
  const line = Object.entries(remedy.filled ?? {}).reduce((text, [open, value]) => text.replace(open, value), found);
  const mended = await world.hod(...words(line).slice(1), ...(remedy.more ?? []));
  expect({ line, code: mended.code, said: mended.stderr }).toEqual({ line, code: 0, said: mended.stderr });
  const again = await world.hod(...words(remedy.again ?? remedy.command));
  expect({ line, code: again.code, said: again.stderr }).toEqual({ line, code: 0, said: again.stderr });
});
