import { execFileSync } from 'node:child_process';
import { once } from 'node:events';
import { rm } from 'node:fs/promises';
import { errorResultSchema } from '../../src/results/error';
import { keepSeen } from '../support/seen-errors';
import { is } from './content';
import { host, known, Scene } from './scene';

/** What surrounds the program: readers that go away, disks that are full, limits, signals. */

let scene: Scene;
beforeEach(async () => (scene = await Scene.make()));
afterEach(async () => {
  await scene.end();
  await rm(scene.folder, { recursive: true, force: true });
});

/** Runs a script of a shell in which `hod` is the built program. Answers how it ended, and what it said on stderr. */
const shell = (script: string) => scene.shell(script);
const there = `show ${known}`;
const absent = `show ${host.dev}/dev/tide-watch:9.9.9`;

/** The exit code is that of the work, whoever reads; a document that nobody could be given is exit 6. */
test.each<[name: string, script: string, exit: number, says: RegExp]>([
  ['a failure, whose document nobody reads', `hod ${absent} --json | head -n0`, 4, /^hod: there is no such image/],
  ['a failure, whose words nobody reads', `hod ${absent} 2> >(head -n0)`, 4, /^$/],
  [
    'a failure, whose document cannot be written',
    `hod ${absent} --json > /dev/full`,
    4,
    /^hod: there is no such image/,
  ],
  ['a document that nobody reads', `hod ${there} --json | head -n0`, 6, /the reader closed the pipe/],
  ['a document that cannot be written', `hod ${there} --json > /dev/full`, 6, /no space left/i],
  ['a text of which nobody reads more', `hod ${there} | head -n0`, 0, /^$/],
  ['a text that cannot be written', `hod ${there} > /dev/full`, 6, /no space left/i],
  ['a log that nobody reads', `hod publish --verbose 2> >(head -n0) > /dev/null`, 0, /^$/],
  ['a log that cannot be written', `hod publish --verbose 2> /dev/full > /dev/null`, 0, /^$/],
])('%s', async (_, script, exit, says) => {
  await scene.nextVersion();
  const run = await shell(`${script}; exit \${PIPESTATUS[0]}`);
  expect({ code: run.code, stderr: run.stderr }).toEqual({ code: exit, stderr: expect.stringMatching(says) });
  expect(run.stderr).not.toMatch(/\n\s+at /);
  keepShown(run.stderr);
});

/** Keeps the error of a document that could not be written: where its words stand it is only shown. */
function keepShown(stderr: string): void {
  const [, what, object, why, next] =
    /^hod: (the answer could not be written)\n  object (.*)\n  why    (.*)\n  next   (.*)$/m.exec(stderr) ?? [];
  if (what !== undefined) {
    keepSeen('answer-unwritable', { what, object: object ?? '', why: why ?? '', next: next ?? '' });
  }
}

test.each([36, 40, 48, 64])('%d descriptors: said in the form of errors, or done without', async (limit) => {
  await scene.nextVersion();
  const { code, stdout, stderr } = await shell(`ulimit -n ${limit}; hod publish --json`);
  expect(stderr).not.toMatch(/\n\s+at /);
  if (code === 0) {
    return;
  }
  const { error } = errorResultSchema.parse(JSON.parse(stdout));
  expect(error.code).not.toBe('defect');
  const { what, object, why, next } = error;
  keepSeen(error.code, { what, object: object ?? '', why: why ?? '', next: next ?? '' });
});

test('a run that is interrupted on a terminal leaves its cursor to be seen, and says so', async () => {
  await scene.nextVersion();
  const waiting = new Promise<void>((resolve) => {
    scene.network.at(host.dev, (request) => {
      const uploads = is.upload(request.method ?? '', request.url ?? '');
      if (uploads) {
        resolve();
      }
      return uploads;
    });
  });
  const terminal = scene.onTerminal('publish');
  let said = '';
  terminal.stdout.setEncoding('utf8').on('data', (text: string) => (said += text));
  await waiting;
  // What is waited for is drawn, without a cursor.
  while (!said.includes('\u001b[?25l')) {
    await once(terminal.stdout, 'data');
  }
  // As the keyboard does it.
  terminal.stdin.write('\u0003');
  const [code]: unknown[] = await once(terminal, 'close');
  expect(code).toBe(130);
  expect(said).toMatch(/interrupted/);
  expect(said.lastIndexOf('\u001b[?25h')).toBeGreaterThan(said.lastIndexOf('\u001b[?25l'));
});

test('many images ask git no more than a few times at once', async () => {
  const names = Array.from({ length: 60 }, (_, at) => `image-${at}`);
  const components = names.map((name) => `  ${name}: { from: out/tide-watch, inputs: ["${name}/**"] }`).join('\n');
  await scene.configure(`images:\n${components}`, /^images.*$/m);
  const { code } = await shell('hod touched --since HEAD --json > /dev/null');
  expect(code).toBe(0);
  const calls = execFileSync('sort', ['arguments.log'], { cwd: scene.folder, encoding: 'utf8' }).split('\n');
  expect(calls.length).toBeLessThan(20);
});
