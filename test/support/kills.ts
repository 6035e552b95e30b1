import type { ChildProcess } from 'node:child_process';
import { hod, hodJson } from './hod';
import { chance, seed } from './random';
import { SmallProduct } from './small-product';

/** How often commands were really killed, and for how long tags belonged to two releases. */
export interface KillReport {
  killed: number;
  /** Milliseconds from the first tag that moved to the last, of a promotion and a rollback that were not disturbed. */
  mixed: number[];
}

/**
 * Promotes releases of three images for three platforms, and takes the environment back again, each
 * command killed at a random moment and run once more: then registries and ledger must be as if it had
 * run undisturbed. Every tag is read through and through after each kill.
 *
 * @param rounds Each kills a promotion and a rollback; the first one is not disturbed.
 * @param moments When moving tags were written in uat so far, in milliseconds; of a registry that is watched.
 */
export async function survivesKills(
  ports: { readonly dev: number; readonly uat: number },
  rounds: number,
  moments: readonly number[] = [],
): Promise<KillReport> {
  const report: KillReport = { killed: 0, mixed: [] };
  const random = chance();
  const product = await SmallProduct.create(ports);
  const { components, options } = product;
  /** How many lines each command wrote to its log, undisturbed. */
  const lengths = new Map<string, number>();
  /** What was said last, for when it turns out not to be so. */
  let said: string[] = [];

  /** Runs a command; at first to see how much it logs, and then to kill it at any line of that and run it again. */
  const run = async (command: string[]): Promise<void> => {
    const [name = ''] = command;
    const args = [...command, '--verbose'];
    const length = lengths.get(name);
    if (length === undefined) {
      const seen = moments.length;
      const undisturbed = await hod(args, options);
      lengths.set(name, linesIn(undisturbed.stderr));
      const own = moments.slice(seen);
      report.mixed.push(Math.max(...own) - Math.min(...own));
      return;
    }
    const last = Math.floor(random() * length);
    const killed = await hod(args, { ...options, started: (child) => killAtLine(child, last) });
    report.killed += killed.code === null ? 1 : 0;
    // Whatever a tag leads to now is whole.
    await product.tags();
    const again = await hod(args, options);
    said = [`HOD_SEED=${seed}, killed at line ${last}: ${killed.stdout}${killed.stderr}`, again.stdout, again.stderr];
    if (again.code !== 0) {
      throw new Error(`hod ${args.join(' ')}, run again, ended with ${again.code ?? 'a signal'}:\n${said.join('\n')}`);
    }
  };
  try {
    await product.publish(0);
    await hodJson('promote', ['promote', 'uat'], options);
    const kinds = ['published', 'promoted'];
    const expectServed = async (minor: number, newest: number): Promise<void> => {
      for (const [name, tags] of Object.entries(await product.tags())) {
        const { uat, latest, '1': major, ...fixed } = tags;
        const target = tags[`1.${minor}.0`];
        expect({ name, uat, latest, major, said }).toEqual({ name, uat: target, latest: target, major: target, said });
        expect(Object.keys(fixed).sort()).toEqual(Array.from({ length: newest + 1 }, (_, at) => `1.${at}.0`).sort());
        expect(new Set(Object.values(fixed)).size).toBe(newest + 1);
      }
      expect((await product.entries()).map(({ kind }) => kind)).toEqual(kinds);
    };
    expect(components).toHaveLength(3);
    for (let round = 1; round <= rounds; round += 1) {
      await product.publish(round);
      await run(['promote', 'uat']);
      kinds.push('published', 'promoted');
      await expectServed(round, round);
      await run(['rollback', 'uat', '--reason', `round ${round} is wrong`]);
      kinds.push('rolled-back');
      await expectServed(0, round);
    }
    await hodJson('ledger-verify', ['ledger', 'verify'], options);
    return report;
  } finally {
    await product.remove();
  }
}

/** How many lines a text has. */
export function linesIn(text: string): number {
  return text.split('\n').length - 1;
}

/** Kills a command as soon as it has logged so many lines, so that it is hit on a slow machine as well as on a fast one. */
export function killAtLine(child: ChildProcess, last: number): void {
  let seen = 0;
  child.stderr?.on('data', (text: string) => {
    seen += linesIn(text);
    if (seen >= last) {
      child.kill('SIGKILL');
    }
  });
  if (last === 0) {
    child.kill('SIGKILL');
  }
}
