import fc from 'fast-check';
import {
  mkdir,
  mkdtemp,
  readdir,
  readFile,
  rm,
  stat,
  symlink,
  writeFile,
  chmod,
  lstat,
  realpath,
} from 'node:fs/promises';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { writeBoard } from '../../src/cli/board-file';
import { writeForCi } from '../../src/cli/ci-files';
import { Secrets } from '../../src/core/access/secrets';
import { HodError } from '../../src/core/errors';
import { sha256 } from '../../src/core/oci/digest';
import { SeenFile } from '../../src/ledger/engines/git/cache';
import { exportLedger } from '../../src/operations/ledger-export';
import { init } from '../../src/operations/init';
import { unpack } from '../../src/operations/unpack';
import { silent } from '../../src/session/observer';
import { withLock } from '../../src/system/lock';
import { readDeploymentFile, writeDeploymentFiles } from '../../src/workspace/deployment-files';
import { makeStateFolder } from '../../src/workspace/state-folder';
import { changeStored, readStored } from '../../src/workspace/stored-logins';
import { UploadFiles } from '../../src/workspace/uploads';
import { tokenServices } from '../../src/workspace/user-memory';
import { madeUpBoard } from '../support/made-up-board';
import { causeOf, onFaultyDisk, type DiskFault, type DiskOutcome } from '../support/disk';
import { hod } from '../support/hod';
import { sandboxWorld, type SandboxWorld } from '../support/world';

/** A file that Hod writes. */
interface Written {
  readonly name: string;
  /** Where it is, in a folder of its own. */
  readonly files: readonly string[];
  /** What is there before; nothing where it is not given. */
  before?(folder: string): Promise<unknown>;
  write(folder: string): Promise<unknown>;
  /** It is done without it where it cannot be written. */
  readonly quiet?: true;
}

let sandbox: SandboxWorld;
let home: string;
beforeAll(async () => {
  sandbox = await sandboxWorld();
  await sandbox.world.publish();
  home = await mkdtemp(join(tmpdir(), 'hod-disk-'));
});
afterAll(async () => {
  await sandbox.close();
  await rm(home, { recursive: true });
});

const page = madeUpBoard({ components: 3, releases: 12, days: 20 }, new Date('2026-06-01T00:00:00Z'));
const secrets = (): Secrets => new Secrets();
const login = (name: string) => (logins: Map<string, { username: string; password: string }>) =>
  logins.set(`${name}.test`, { username: 'una', password: `gull-${name}-tern` });
const deployment = (digest: string): string =>
  `${'# a comment of a deployment file\n'.repeat(600)}image: x@${digest}\n`;
const point = async (folder: string, names: readonly string[]): Promise<void> => {
  const files = await Promise.all(names.map((name) => readDeploymentFile(join(folder, name))));
  await writeDeploymentFiles(files.map((file) => ({ file, text: deployment('new') })));
};
const report = {
  kind: 'publish',
  product: 'skerry-line',
  version: '1.0.0',
  commit: 'a'.repeat(40),
  components: [],
  dryRun: false,
  environment: 'dev',
  build: null,
};

const written: readonly Written[] = [
  {
    name: 'a deployment file',
    files: ['prod.yaml'],
    before: (folder) => writeFile(join(folder, 'prod.yaml'), deployment('old')),
    write: (folder) => point(folder, ['prod.yaml']),
  },
  {
    name: 'two deployment files',
    files: ['north.yaml', 'south.yaml'],
    before: (folder) =>
      Promise.all(['north.yaml', 'south.yaml'].map((name) => writeFile(join(folder, name), deployment('old')))),
    write: (folder) => point(folder, ['north.yaml', 'south.yaml']),
  },
  {
    name: 'stored logins',
    files: ['hod/logins.json'],
    before: () => changeStored(secrets(), (logins) => Array.from({ length: 90 }, (_, at) => login(`old${at}`)(logins))),
    write: () => changeStored(secrets(), login('new')),
  },
  {
    name: 'what is remembered for a user',
    files: ['hod/token-services.json'],
    before: () => tokenServices.of('old').remember('x'),
    write: () => tokenServices.of('new').remember('y'),
    quiet: true,
  },
  {
    name: 'where a ledger in git was seen',
    files: [`${sha256('origin').slice('sha256:'.length, 23)}.json`],
    before: (folder) => new SeenFile(folder, 'origin').remember(seen(1)),
    write: (folder) => new SeenFile(folder, 'origin').remember(seen(2)),
    quiet: true,
  },
  {
    name: 'a copy of the ledger',
    files: ['copy.jsonl'],
    before: (folder) => writeFile(join(folder, 'copy.jsonl'), 'the backup of last week\n'.repeat(50)),
    write: (folder) =>
      exportLedger({
        config: join(sandbox.world.product.folder, 'hod.yaml'),
        file: join(folder, 'copy.jsonl'),
        observer: silent,
        secrets: secrets(),
      }),
  },
  {
    name: 'the page',
    files: ['board.html'],
    before: (folder) => writeFile(join(folder, 'board.html'), 'the page of yesterday'),
    write: (folder) => writeBoard(page, join(folder, 'board.html'), join(__dirname, '../../dist')),
  },
  {
    name: 'a first configuration',
    files: ['hod.yaml'],
    write: (folder) => init({ config: join(folder, 'hod.yaml') }),
  },
  {
    name: 'the files of a bundle',
    files: ['fares'],
    write: (folder) =>
      unpack({
        config: join(sandbox.world.product.folder, 'hod.yaml'),
        what: sandbox.world.repository('dev', 'fare-tables:2.4.0'),
        folder: join(folder, 'fares'),
        observer: silent,
        secrets: secrets(),
      }),
  },
  {
    name: 'the outputs that a CI reads',
    files: ['outputs'],
    before: (folder) => writeFile(join(folder, 'outputs'), 'written=before\n'.repeat(20)),
    write: (folder) => writeForCi({ outputs: join(folder, 'outputs') }, report as never, { several: false }),
  },
  {
    name: 'an upload that goes on later',
    files: ['state/uploads'],
    write: (folder) => new UploadFiles(join(folder, 'state', 'uploads')).remember('a key', 'https://x.test/upload'),
  },
  {
    name: 'the file that keeps git from seeing what is remembered',
    files: ['state/.gitignore'],
    write: (folder) => makeStateFolder(join(folder, 'state')),
    quiet: true,
  },
];

const seen = (seq: number) =>
  ({ id: String(seq).repeat(40), state: { seq, hash: sha256(String(seq)) } }) as unknown as Parameters<
    SeenFile['remember']
  >[0];

/** What is in files, or in all files of a folder; times and numbers of runs aside. */
async function contents(folder: string, { files }: Written): Promise<(string | undefined)[]> {
  return Promise.all(
    files.map(async (name) => {
      const path = join(folder, name);
      const isFolder = await stat(path).then(
        (found) => found.isDirectory(),
        () => false,
      );
      const all = isFolder
        ? (await readdir(path)).filter((each) => !each.startsWith('.')).map((each) => join(path, each))
        : [path];
      const texts = await Promise.all(all.map((each) => readFile(each, 'utf8').catch(() => undefined)));
      return texts[0]?.replace(/"(at|process)":\d+|"run":"[^"]*"/g, '$1');
    }),
  );
}

/** Writes a file on a faulty disk. Answers what was there before, what would be there, and what is. */
async function attempt(each: Written, fault: DiskFault | undefined) {
  const folder = join(await mkdtemp(join(home, 'case-')), 'skerry-line');
  await mkdir(folder);
  process.env['XDG_CONFIG_HOME'] = folder;
  await each.before?.(folder);
  const before = await contents(folder, each);
  const { outcome, calls, error } = await onFaultyDisk(fault, () => each.write(folder));
  const after = await contents(folder, each);
  const left = (await readdir(folder, { recursive: true })).filter((name) => /\.(new|part)$/.test(name));
  await rm(folder, { recursive: true });
  return { before, after, outcome, calls, left, error };
}

test.each(written)(
  '$name: on a disk that fails at any call, or is full at any byte, it is as it was or as it is to be',
  async (each) => {
    const well = await attempt(each, undefined);
    expect([well.outcome, well.left]).toEqual(['done', []]);
    expect(well.after).not.toEqual(well.before);
    const size = Math.max(...well.after.map((text) => text?.length ?? 0));
    const fault: fc.Arbitrary<DiskFault> = fc.oneof(
      fc.record({
        kind: fc.constantFrom('EIO' as const, 'EDQUOT' as const, 'EROFS' as const, 'crash' as const),
        at: fc.integer({ min: 1, max: well.calls + 1 }),
      }),
      fc.record({ kind: fc.constant('full' as const), bytes: fc.nat(2 * size) }),
      fc.record({ kind: fc.constant('short' as const), bytes: fc.integer({ min: Math.ceil(size / 40), max: size }) }),
    );
    const seenOutcomes = new Set<DiskOutcome>();
    await fc.assert(
      fc.asyncProperty(fault, async (given) => {
        const { after, outcome, left, error } = await attempt(each, given);
        seenOutcomes.add(outcome);
        // Nothing but the old or the new, file by file; what was done is there, and what failed is said to have failed.
        after.forEach((text, at) => expect([well.before[at], well.after[at]]).toContain(text));
        if (outcome === 'done' && each.quiet !== true) {
          expect(after).toEqual(well.after);
        }
        if (outcome === 'failed') {
          const isSaid = error instanceof HodError ? error.problem.next !== undefined : causeOf(error) !== undefined;
          expect(isSaid).toBe(true);
        }
        if (given.kind === 'short' || (given.kind === 'full' && outcome === 'failed')) {
          expect(left).toEqual([]);
        }
        if (given.kind === 'short') {
          expect(outcome).toBe('done');
        }
      }),
      { numRuns: Math.ceil(500 / written.length) },
    );
    expect(seenOutcomes.has('crashed')).toBe(true);
  },
);

test('of two files of which the second cannot be written, neither is, and the error names it', async () => {
  const folder = await mkdtemp(join(home, 'two-'));
  await mkdir(join(folder, 'closed'));
  const [first, second] = [join(folder, 'first.yaml'), join(folder, 'closed', 'second.yaml')];
  await writeFile(first, deployment('old'));
  await writeFile(second, deployment('old'));
  const files = await Promise.all([first, second].map((path) => readDeploymentFile(path)));
  await writeFile(second, deployment('changed meanwhile'));
  const writing = writeDeploymentFiles(files.map((file) => ({ file, text: deployment('new') })));
  await expect(writing).rejects.toMatchObject({
    code: 'file-unusable',
    problem: { object: await realpath(second), why: 'somebody else changed it meanwhile' },
  });
  expect(await readFile(first, 'utf8')).toBe(deployment('old'));
  expect(await readFile(second, 'utf8')).toBe(deployment('changed meanwhile'));
  expect(await readdir(folder)).toEqual(['closed', 'first.yaml']);
});

test('a file keeps its mode, and a symbolic link to it stays one, also one that leads nowhere yet', async () => {
  const folder = await mkdtemp(join(home, 'link-'));
  await writeFile(join(folder, 'real.yaml'), deployment('old'));
  await chmod(join(folder, 'real.yaml'), 0o640);
  await symlink('real.yaml', join(folder, 'link.yaml'));
  await point(folder, ['link.yaml']);
  expect((await lstat(join(folder, 'link.yaml'))).isSymbolicLink()).toBe(true);
  expect((await stat(join(folder, 'real.yaml'))).mode & 0o7777).toBe(0o640);
  expect(await readFile(join(folder, 'real.yaml'), 'utf8')).toBe(deployment('new'));
  await mkdir(join(folder, 'shared'));
  await mkdir(join(folder, 'hod'));
  await symlink('../shared/logins.json', join(folder, 'hod', 'logins.json'));
  process.env['XDG_CONFIG_HOME'] = folder;
  await changeStored(secrets(), login('new'));
  expect((await lstat(join(folder, 'hod', 'logins.json'))).isSymbolicLink()).toBe(true);
  expect([...(await readStored(secrets())).keys()]).toEqual(['new.test']);
});

test('of logins that many store and forget at once, none is lost; a lock that a killed run left counts for nothing', async () => {
  const folder = await mkdtemp(join(home, 'many-'));
  process.env['XDG_CONFIG_HOME'] = folder;
  await mkdir(join(folder, 'hod'));
  await writeFile(join(folder, 'hod', 'logins.json.lock'), JSON.stringify({ process: 999_999, space: 'gone', at: 0 }));
  await Promise.all(Array.from({ length: 12 }, (_, at) => changeStored(secrets(), login(`host${at}`))));
  expect((await readStored(secrets())).size).toBe(12);
  const stored = Array.from({ length: 6 }, (_, at) =>
    hod(
      [
        'access',
        'store',
        `127.0.0.1:${sandbox.world.ports.dev}`.replace('127.0.0.1', `dev${at}.localhost`),
        '--user',
        'una',
      ],
      {
        ...sandbox.world.options,
        env: { XDG_CONFIG_HOME: folder },
        input: 'gull-and-tern-9',
      },
    ),
  );
  expect((await Promise.all(stored)).map(({ code, stderr }) => [code, code === 0 ? '' : stderr])).toEqual(
    Array(6).fill([0, '']),
  );
  expect((await readStored(secrets())).size).toBe(18);
  let inside = 0;
  await Promise.all(
    Array.from({ length: 20 }, () =>
      withLock(join(folder, 'other'), async () => {
        inside += 1;
        await new Promise((resolve) => setImmediate(resolve));
        expect(inside).toBe(1);
        inside -= 1;
      }),
    ),
  );
});
