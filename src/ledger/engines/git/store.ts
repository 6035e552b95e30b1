import { spawn, type ChildProcessByStdio } from 'node:child_process';
import { randomUUID } from 'node:crypto';
import { once } from 'node:events';
import { existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync } from 'node:fs';
import { readFile } from 'node:fs/promises';
import { join } from 'node:path';
import type { Readable, Writable } from 'node:stream';
import { temporaryFolderPrefix } from '../../../system/temporary-folder';
import { writeScratchFile } from '../../../system/write-file';
import { gitEnvironment, runGit } from './processes';
import { notWrittenByHod, objectIdSchema, type ObjectId, type TreePath } from './layout';

/** A file that a commit changes. */
export interface CommittedFile {
  readonly path: TreePath;
  readonly content: string;
}

/** A commit to be made. */
export interface NewCommit {
  readonly parent: ObjectId | undefined;
  /** The files that it begins with, where it has no parent and is not to begin empty. */
  readonly tree?: ObjectId | undefined;
  /** Seconds since 1970. */
  readonly time: number;
  readonly message: string;
  /** Folders and files that are removed before the files are written. */
  readonly emptied: readonly string[];
  readonly files: readonly CommittedFile[];
}

/** The reference, in the repository of a run, that was fetched last. */
export const newestRef = 'refs/ledger/newest';

/**
 * The objects of a ledger that were fetched, kept for later runs, and a repository around them that
 * lives as long as the run: what runs side by side shares objects, which never change, and no references.
 */
export class GitStore {
  private readonly home = mkdtempSync(temporaryFolderPrefix());
  /** The repository of this run that talks to the remote. Fetching parts makes git fetch by itself in it what is missing. */
  readonly gitDir = join(this.home, 'shared');
  /** Another one, in which what is missing is missing. */
  private readonly localDir = join(this.home, 'local');
  readonly objects: string;
  private reader: ObjectReader | undefined;
  private readonly remove = (): void => rmSync(this.home, { recursive: true, force: true });

  private constructor(folder: string | undefined) {
    process.once('exit', this.remove);
    this.objects = folder ?? join(this.home, 'objects');
    mkdirSync(join(this.objects, 'info'), { recursive: true });
    mkdirSync(join(this.objects, 'pack'), { recursive: true });
    for (const repository of [this.gitDir, this.localDir]) {
      mkdirSync(join(repository, 'objects'), { recursive: true });
      mkdirSync(join(repository, 'refs', 'ledger'), { recursive: true });
      writeScratchFile(join(repository, 'HEAD'), 'ref: refs/heads/none\n');
      writeScratchFile(join(repository, 'config'), '[core]\n\trepositoryformatversion = 0\n\tbare = true\n');
    }
  }

  /**
   * @param folder Where objects are kept for later runs; they are not where it is not given.
   * @param seen The commit that was fetched last.
   */
  static async open(folder: string | undefined, seen: ObjectId | undefined): Promise<GitStore> {
    const store = new GitStore(folder);
    if (seen !== undefined && (await store.read(seen)) !== undefined) {
      store.advance(seen);
      writeScratchFile(join(store.gitDir, 'shallow'), `${seen}\n`);
    }
    return store;
  }

  /** Takes a commit for the newest. */
  advance(commit: ObjectId): void {
    writeScratchFile(join(this.gitDir, newestRef), `${commit}\n`);
  }

  /** Writes a file that names the commits at which the histories of this repository and of others begin here. Returns its path. */
  joinedShallow(others: readonly GitStore[]): string {
    const known = [this, ...others]
      .map(({ gitDir }) => join(gitDir, 'shallow'))
      .filter((file) => existsSync(file))
      .map((file) => readFileSync(file, 'utf8'));
    const path = join(this.home, 'joined-shallow');
    writeScratchFile(path, known.join(''));
    return path;
  }

  /** The commit that was fetched last. */
  async newest(): Promise<ObjectId> {
    return objectIdSchema.parse((await readFile(join(this.gitDir, newestRef), 'utf8')).trim());
  }

  /** The content of an object; undefined where it was not fetched. */
  read(id: ObjectId): Promise<Buffer | undefined> {
    this.reader ??= new ObjectReader(this.environment());
    return this.reader.read(id);
  }

  /** Makes a commit. Its parent, and the trees on the ways to its files, must be here. Throws where git does not make it. */
  async commit({ parent, tree, time, message, emptied, files }: NewCommit): Promise<ObjectId> {
    const ref = `refs/ledger/made-${randomUUID()}`;
    const data = (content: string): string => `data ${Buffer.byteLength(content)}\n${content}\n`;
    const stream = [
      `commit ${ref}\nmark :1\ncommitter Hod <hod@localhost> ${time} +0000\n${data(message)}`,
      parent === undefined ? '' : `from ${parent}\n`,
      // Without a parent it begins with the files of an earlier commit all the same.
      tree === undefined ? '' : `M 040000 ${tree} ""\n`,
      ...emptied.map((folder) => `D ${folder}\n`),
      ...files.map(({ path, content }) => `M 100644 inline ${path.join('/')}\n${data(content)}`),
      'get-mark :1\ndone\n',
    ];
    const { exitCode, stdout, stderr } = await runGit(['fast-import', '--quiet', '--done'], {
      env: this.environment(),
      cwd: this.localDir,
      input: stream.join(''),
    });
    if (exitCode !== 0) {
      throw new GitFailure(stderr);
    }
    return objectIdSchema.parse(stdout.trim());
  }

  async close(): Promise<void> {
    await this.reader?.close();
    process.off('exit', this.remove);
    this.remove();
  }

  private environment(): NodeJS.ProcessEnv {
    return gitEnvironment({ gitDir: this.localDir, objects: this.objects }, []);
  }
}

/** Something that git did not do; the message is what it said. */
export class GitFailure extends Error {}

/**
 * An object holds one entry, or a few facts.
 * @limit an object of a ledger in git | bytes | `ledger-corrupt`
 */
const objectLimit = 32 * 1024 ** 2;

/** Reads objects through one process for all of them (`git cat-file --batch`). */
class ObjectReader {
  private readonly child: ChildProcessByStdio<Writable, Readable, null>;
  private readonly ended: Promise<unknown>;
  private readonly waiting: { resolve: (content: Buffer | undefined) => void; reject: (error: Error) => void }[] = [];
  /** What has come and is not answered yet; it is joined once for an answer that has come whole. */
  private pieces: Buffer[] = [];
  private come = 0;
  /** How much must have come before there is something to do. */
  private needed = 1;
  private broken: Error | undefined;

  constructor(env: NodeJS.ProcessEnv) {
    this.child = spawn('git', ['cat-file', '--batch'], {
      env: { ...process.env, ...env },
      stdio: ['pipe', 'pipe', 'ignore'],
    });
    this.ended = once(this.child, 'close').catch(() => undefined);
    this.child.on('error', (error) => this.fail(error));
    this.child.on('close', () => this.fail(new GitFailure('git cat-file ended')));
    this.child.stdin.on('error', () => undefined);
    this.child.stdout.on('data', (piece: Buffer) => {
      this.pieces.push(piece);
      this.come += piece.length;
      if (this.come >= this.needed) {
        this.answerAll();
      }
    });
  }

  read(id: ObjectId): Promise<Buffer | undefined> {
    return new Promise((resolve, reject) => {
      if (this.broken !== undefined) {
        return reject(this.broken);
      }
      this.waiting.push({ resolve, reject });
      this.child.stdin.write(`${id}\n`);
    });
  }

  async close(): Promise<void> {
    this.child.stdin.end();
    await this.ended;
  }

  /** Answers as many as have come whole: `ID TYPE SIZE`, a line end, and the content with another; or `ID missing`. */
  private answerAll(): void {
    const all = Buffer.concat(this.pieces);
    let at = 0;
    this.needed = 1;
    for (let end = all.indexOf(10, at); end >= 0; end = all.indexOf(10, at)) {
      const [id = '', type, size] = all.toString('latin1', at, end).split(' ');
      const length = type === 'missing' ? 0 : Number(size) + 1;
      if (length > objectLimit) {
        this.child.kill('SIGKILL');
        this.fail(
          notWrittenByHod(
            `the object ${id.slice(0, 12)}`,
            `it has ${length - 1} bytes, and at most ${objectLimit} are read`,
          ),
        );
        return;
      }
      if (all.length < end + 1 + length) {
        this.needed = end - at + 1 + length;
        break;
      }
      const content = all.subarray(end + 1, end + length);
      at = end + 1 + length;
      this.waiting.shift()?.resolve(type === 'missing' ? undefined : Buffer.from(content));
    }
    this.pieces = at === all.length ? [] : [all.subarray(at)];
    this.come = all.length - at;
  }

  private fail(error: Error): void {
    this.broken ??= error;
    this.waiting.splice(0).forEach(({ reject }) => reject(error));
  }
}
