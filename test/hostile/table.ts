import { rm } from 'node:fs/promises';
import { availableParallelism } from 'node:os';
import pLimit from 'p-limit';
import type { ErrorCode } from '../../src/core/errors';
import { errorResultSchema } from '../../src/results/error';
import type { HodRun } from '../support/hod';
import { keepSeen } from '../support/seen-errors';
import { Scene } from './scene';

/** A command line, and how it must end. */
export interface HostileCase {
  /** Who does what to whom. */
  readonly name: string;
  /** Sets the trap. */
  readonly attack: (scene: Scene) => unknown;
  /** The command line; `--json` is added to one of two runs where `forms` asks for both. */
  readonly run: readonly string[] | ((scene: Scene) => readonly string[]);
  /** The exit code, and the code of the error. */
  readonly exit: number;
  readonly code?: ErrorCode;
  /** As text, as a document, or both. */
  readonly forms?: readonly ('text' | 'json')[];
  /** Besides what may never appear. */
  readonly absent?: RegExp;
  /** What must be read. */
  readonly present?: RegExp;
  /** Tags that may be written although it fails, or must be where it does not. */
  readonly tagged?: readonly string[];
  /** At most, in seconds and MiB. A case that takes longer than the usual runs beside the others. */
  readonly seconds?: number;
  readonly megabytes?: number;
  /** What else must hold. */
  readonly after?: (scene: Scene, runs: readonly HodRun[]) => void | Promise<void>;
}

const usualSeconds = 30;
const usualMegabytes = 200;

/** Characters that act on a terminal: controls but for the newline, changes of direction, no width. */
const acting = /[\u0000-\u0009\u000b-\u001f\u007f-\u009f\u200b-\u200f\u2028-\u202e\u2060-\u206f]/;
/** A text that acts in every way that there is, and forges a line of ours. */
export const evil =
  '\u001b]0;owned\u0007\u001b[2J\u009b31m\r\nhod: Published 9.9.9 to prod\r\nPublished 9.9.9\b\b\u202egnitirw\u2066\u200b';

/** Runs cases several at a time, and reports each as a test of its own. */
export function hostile(title: string, cases: readonly HostileCase[]): void {
  describe(title, () => {
    const turns = pLimit(Math.max(2, availableParallelism()));
    const running = new Map<string, Promise<void>>();
    beforeAll(() => {
      // The slow ones wait most of the time: they begin first, beside all others.
      const slow = cases.filter(({ seconds = 0 }) => seconds > usualSeconds);
      for (const each of [...slow, ...cases.filter((other) => !slow.includes(other))]) {
        const work = slow.includes(each) ? play(each) : turns(() => play(each));
        work.catch(() => undefined);
        running.set(each.name, work);
      }
    });
    test.each(cases.map(({ name }) => name))('%s', (name) => running.get(name));
  });
}

async function play(each: HostileCase): Promise<void> {
  const scene = await Scene.make();
  try {
    await each.attack(scene);
    const line = typeof each.run === 'function' ? each.run(scene) : each.run;
    const earlier = scene.tagged().length;
    const runs: HodRun[] = [];
    for (const form of each.forms ?? ['json']) {
      const begun = performance.now();
      const run = await scene.hod(...line, ...(form === 'json' ? ['--json'] : []));
      const seconds = (performance.now() - begun) / 1000;
      check(each, run, form);
      expect(seconds).toBeLessThan(each.seconds ?? usualSeconds);
      expect(await scene.peak()).toBeLessThan(each.megabytes ?? usualMegabytes);
      runs.push(run);
    }
    expect(await scene.leaks(runs)).toEqual([]);
    const tagged = scene.tagged().slice(earlier);
    expect(tagged.filter((tag) => each.tagged?.includes(tag) !== true)).toEqual([]);
    expect(each.exit === 0 ? (each.tagged ?? []).filter((tag) => !tagged.includes(tag)) : []).toEqual([]);
    expect(scene.network.trapped).toBe(0);
    await each.after?.(scene, runs);
  } finally {
    await scene.end();
    await rm(scene.folder, { recursive: true, force: true });
  }
}

function check(
  { exit, code, absent, present }: HostileCase,
  { code: ended, stdout, stderr }: HodRun,
  form: string,
): void {
  const all = `${stdout}\n${stderr}`;
  const error = form === 'json' && ended !== 0 ? errorResultSchema.parse(JSON.parse(stdout)).error : undefined;
  expect({ exit: ended, code: error?.code, stderr }).toEqual({
    exit,
    code: error === undefined ? undefined : code,
    stderr: exit === 0 ? expect.any(String) : expect.stringMatching(/^hod: /m),
  });
  if (form === 'json') {
    JSON.parse(stdout);
  }
  if (error !== undefined) {
    keepSeen(error.code, {
      what: error.what,
      object: error.object ?? '',
      why: error.why ?? '',
      next: error.next ?? '',
    });
    // Every no says why, and what to do.
    expect([error.object, error.why, error.next]).not.toContain(null);
  }
  expect(all).not.toMatch(/\n\s+at .*\d/);
  expect(acting.exec(all)?.[0]).toBeUndefined();
  expect(all).not.toMatch(/^(hod: )?Published 9\.9\.9/m);
  if (absent !== undefined) {
    expect(all).not.toMatch(absent);
  }
  if (present !== undefined) {
    expect(all).toMatch(present);
  }
}
