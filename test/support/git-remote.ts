import { execFileSync, spawn } from 'node:child_process';
import { once } from 'node:events';
import { chmodSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { setTimeout as delay } from 'node:timers/promises';
import { join } from 'node:path';
import { buffer } from 'node:stream/consumers';
import { plainEnvironment } from './hod';

/** Runs git as the tests do: with nobody's settings. */
export function git(folder: string, args: readonly string[], input = ''): string {
  const env = { ...plainEnvironment, GIT_CONFIG_NOSYSTEM: '1', LC_ALL: 'C' };
  const who = ['-c', 'user.name=Una Skerry', '-c', 'user.email=una@skerry.test'];
  return execFileSync('git', [...who, ...args], {
    cwd: folder,
    encoding: 'utf8',
    env,
    input,
    maxBuffer: 1 << 28,
  }).trim();
}

/** A bare repository that jobs share, over a path and over HTTP (git's own `git http-backend`). */
export class GitRemoteRepository {
  readonly folder = mkdtempSync(join(tmpdir(), 'hod-git-remote-'));
  readonly path = join(this.folder, 'skerry-line.git');
  private server: Server | undefined;
  /** Every request, as `GET /info/refs?service=…`. */
  readonly requests: string[] = [];
  /** What is asked for is answered so, where it says so. */
  answer: (request: IncomingMessage, response: ServerResponse) => boolean = () => false;
  /** Whether those who come over HTTP may write. */
  writable = true;
  /** How long each request waits for its answer, in milliseconds. */
  slowness = 0;

  constructor({ partial }: { partial: boolean }) {
    git(this.folder, ['init', '--quiet', '--bare', '--initial-branch=main', this.path]);
    git(this.path, ['config', 'uploadpack.allowFilter', String(partial)]);
  }

  /** A hook of the repository: a shell script. */
  hook(name: string, script: string): void {
    const file = join(this.path, 'hooks', name);
    writeFileSync(file, `#!/bin/sh\n${script}\n`);
    chmodSync(file, 0o755);
  }

  /** Removes a reference. */
  forget(ref: string): void {
    git(this.path, ['update-ref', '-d', ref]);
  }

  /** Where a reference stands; nothing where there is none. */
  at(ref: string): string {
    return git(this.path, ['for-each-ref', '--format=%(objectname)', ref]);
  }

  /** Makes a commit on a reference in which a file is changed, or removed, behind Hod's back; its message stays. */
  rewrite(ref: string, path: string, change: (content: string) => string | undefined): void {
    const content = change(git(this.path, ['cat-file', 'blob', `${ref}:${path}`]));
    const index = { GIT_INDEX_FILE: join(this.folder, 'index') };
    const run = (args: string[], input = ''): string =>
      execFileSync('git', args, {
        cwd: this.path,
        encoding: 'utf8',
        input,
        env: { ...plainEnvironment, ...index },
      }).trim();
    run(['read-tree', ref]);
    const blob = content === undefined ? '0'.repeat(40) : run(['hash-object', '-w', '--stdin'], content);
    run(['update-index', '--index-info'], `${content === undefined ? '0' : '100644'} ${blob}\t${path}\n`);
    const message = git(this.path, ['log', '-1', '--format=%B', ref]);
    const commit = git(this.path, ['commit-tree', run(['write-tree']), '-p', ref, '-m', message]);
    git(this.path, ['update-ref', ref, commit]);
  }

  /** Starts to serve it over HTTP. Answers its URL. */
  async serve(): Promise<string> {
    this.server = createServer((request, response) => {
      this.requests.push(`${request.method ?? ''} ${request.url ?? ''}`);
      if (!this.answer(request, response)) {
        void delay(this.slowness).then(() => this.pass(request, response));
      }
    }).listen(0, '127.0.0.1');
    await once(this.server, 'listening');
    return `http://127.0.0.1:${(this.server.address() as AddressInfo).port}/skerry-line.git`;
  }

  /** The interface between a web server and git (RFC 3875). */
  private async pass(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const { pathname, searchParams } = new URL(request.url ?? '/', 'http://localhost');
    const env = {
      ...plainEnvironment,
      GIT_PROJECT_ROOT: this.folder,
      GIT_HTTP_EXPORT_ALL: '1',
      PATH_INFO: pathname,
      QUERY_STRING: searchParams.toString(),
      REQUEST_METHOD: request.method ?? '',
      CONTENT_TYPE: request.headers['content-type'] ?? '',
      HTTP_CONTENT_ENCODING: request.headers['content-encoding'] ?? '',
      GIT_PROTOCOL: String(request.headers['git-protocol'] ?? ''),
      ...(this.writable ? { REMOTE_USER: 'una', REMOTE_ADDR: '127.0.0.1' } : {}),
    };
    const child = spawn('git', ['http-backend'], { env, stdio: ['pipe', 'pipe', 'ignore'] });
    child.stdin.on('error', () => undefined);
    request.pipe(child.stdin);
    const answer = await buffer(child.stdout);
    const end = answer.indexOf('\r\n\r\n');
    const headers = answer.toString('latin1', 0, end).split('\r\n');
    for (const line of headers) {
      const [name = '', value = ''] = line.split(': ');
      if (name === 'Status') {
        response.statusCode = Number.parseInt(value, 10);
      } else {
        response.setHeader(name, value);
      }
    }
    response.end(answer.subarray(end + 4));
  }

  /** Ends the server, as if it were down. */
  async stop(): Promise<void> {
    this.server?.closeAllConnections();
    await new Promise((resolve) => (this.server === undefined ? resolve(undefined) : this.server.close(resolve)));
    this.server = undefined;
  }

  async remove(): Promise<void> {
    await this.stop();
    rmSync(this.folder, { recursive: true });
  }
}
