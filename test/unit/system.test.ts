import { Worker } from 'node:worker_threads';
import * as z from 'zod';
import { runProgram } from '../../src/system/programs';
import { settleAll } from '../../src/system/promises';
import { WorkThread } from '../../src/system/threads';

const folder = process.cwd();
const node = (code: string, options: Partial<Parameters<typeof runProgram>[2]> = {}) =>
  runProgram(process.execPath, ['-e', code], { folder, ...options });

describe('a program', () => {
  test('is told of by its exit code and by what it said, whether it reads its input or not', async () => {
    const input = 'x'.repeat(1_000_000);
    expect(await node('console.log(1); console.error(2); process.exit(3)', { input })).toEqual({
      exitCode: 3,
      cause: undefined,
      stdout: '1\n',
      stderr: '2\n',
    });
    const echo = await node('process.stdin.pipe(process.stdout)', { input, env: { HOME: undefined } });
    expect(echo.stdout).toBe(input);
    expect((await node('console.error("y".repeat(1e6) + "end")')).stderr).toHaveLength(64 * 1024);
  });

  test('that cannot be started, is killed, or says too much did not end by itself', async () => {
    expect(await runProgram('/no/such/program', [], { folder })).toMatchObject({
      exitCode: undefined,
      cause: 'ENOENT',
    });
    expect(await node('process.kill(process.pid, "SIGTERM"); setInterval(() => 0, 1e3)')).toMatchObject({
      exitCode: undefined,
      cause: 'SIGTERM',
    });
    const flood = await node('const b = Buffer.alloc(1 << 20); for (;;) require("fs").writeSync(1, b)');
    expect(flood).toMatchObject({ exitCode: undefined, cause: expect.stringMatching(/^more than \d+ bytes/) });
  });

  test.each([true, false])(
    'that hangs is ended in time, also where what it started lives on (group: %s)',
    async (group) => {
      const run = await runProgram('sh', ['-c', 'echo $$; sleep 20 & sleep 20'], { folder, timeout: 300, group });
      expect(run).toMatchObject({ exitCode: undefined, cause: 'no end within 0.3 s' });
    },
    15_000,
  );
});

describe('a thread', () => {
  const thread = (code: string) =>
    new WorkThread(
      new Worker(`require('node:worker_threads').parentPort.on('message', (work) => { ${code} })`, { eval: true }),
      z.string(),
    );

  test('answers in the order in which it was asked', async () => {
    const echo = thread("require('node:worker_threads').parentPort.postMessage(work.say)");
    expect(await Promise.all(['a', 'b', 'c'].map((say) => echo.ask({ say })))).toEqual(['a', 'b', 'c']);
    await echo.end();
  });

  test('that dies fails those who wait and those who ask later, and nothing else', async () => {
    const dying = thread("throw new Error('out of memory')");
    await expect(dying.ask({})).rejects.toThrow('out of memory');
    await expect(dying.ask({})).rejects.toThrow('out of memory');
    const leaving = thread('process.exit(3)');
    await expect(leaving.ask({})).rejects.toThrow('a thread ended (3)');
  });
});

test('all work is waited for before the first failure is thrown', async () => {
  const done: string[] = [];
  const slow = new Promise<void>((resolve) => setImmediate(resolve)).then(() => void done.push('slow'));
  await expect(settleAll([Promise.reject(new Error('first')), slow])).rejects.toThrow('first');
  expect(done).toEqual(['slow']);
});
