import fs from 'node:fs';
import { systemErrorCode } from '../../src/core/errors';

/** What goes wrong at one system call of a program that writes files. */
export type DiskFault =
  /** This call, and each after it, never comes back: the process was killed. */
  | { readonly kind: 'crash'; readonly at: number }
  /** This call fails. */
  | { readonly kind: 'EIO' | 'EDQUOT' | 'EROFS'; readonly at: number }
  /** The disk has room for so many bytes: it takes those, and then fails. */
  | { readonly kind: 'full'; readonly bytes: number }
  /** Each write takes at most so many bytes. */
  | { readonly kind: 'short'; readonly bytes: number };

/** What became of work on a faulty disk. */
export type DiskOutcome = 'done' | 'failed' | 'crashed';

type Handle = fs.promises.FileHandle;
const changing = ['rename', 'link', 'rm', 'mkdir', 'truncate', 'chmod', 'unlink'] as const;
const ofHandles = ['sync', 'chmod', 'chown', 'truncate', 'stat', 'close'] as const;

/**
 * Does work on a disk with a fault: counts the calls that Node.js makes of the system to change files, and makes one go wrong.
 *
 * @returns What became of it, and how many calls there were. What crashed never ends, and is left where it was.
 */
export async function onFaultyDisk(
  fault: DiskFault | undefined,
  work: () => Promise<unknown>,
): Promise<{ outcome: DiskOutcome; calls: number; error?: unknown }> {
  let calls = 0;
  let room = fault?.kind === 'full' ? fault.bytes : Infinity;
  let crash: () => void = () => undefined;
  const crashed = new Promise<'crashed'>((resolve) => (crash = () => resolve('crashed')));
  const failing = (code: string): Error => Object.assign(new Error(`${code}: injected`), { code });
  /** Does a call, or lets it go wrong. */
  const call = async <T>(real: () => Promise<T>): Promise<T> => {
    calls += 1;
    if (fault !== undefined && 'at' in fault) {
      if (fault.kind === 'crash' && calls >= fault.at) {
        crash();
        return new Promise<never>(() => undefined);
      }
      if (fault.kind !== 'crash' && calls === fault.at) {
        throw failing(fault.kind);
      }
    }
    return real();
  };
  const opened: Handle[] = [];
  const faultyHandle = (handle: Handle): Handle => {
    opened.push(handle);
    return new Proxy(handle, {
      get(target, name: string) {
        if (name === 'write') {
          return (bytes: Uint8Array, at = 0) =>
            call(async () => {
              const most = Math.min(bytes.length - at, room, fault?.kind === 'short' ? fault.bytes : Infinity);
              if (most === 0 && bytes.length > at) {
                throw failing('ENOSPC');
              }
              const taken = await target.write(bytes, at, most);
              room -= taken.bytesWritten;
              return taken;
            });
        }
        const value: unknown = Reflect.get(target, name, target);
        if (typeof value !== 'function') {
          return value;
        }
        const method = value.bind(target) as (...given: unknown[]) => Promise<unknown>;
        return (ofHandles as readonly string[]).includes(name)
          ? (...given: unknown[]) => call(() => method(...given))
          : method;
      },
    });
  };
  const spies = changing.map((name) => {
    const real = fs.promises[name].bind(fs.promises) as (...given: unknown[]) => Promise<unknown>;
    return jest
      .spyOn(fs.promises, name)
      .mockImplementation(((...given: unknown[]) => call(() => real(...given))) as never);
  });
  const open = fs.promises.open.bind(fs.promises);
  const opening = jest
    .spyOn(fs.promises, 'open')
    .mockImplementation(async (...given: Parameters<typeof open>) => faultyHandle(await call(() => open(...given))));
  try {
    return await Promise.race([
      work().then(
        () => ({ outcome: 'done' as const, calls }),
        (error: unknown) => ({ outcome: 'failed' as const, calls, error }),
      ),
      crashed.then((outcome) => ({ outcome, calls })),
    ]);
  } finally {
    [...spies, opening].forEach((spy) => spy.mockRestore());
    await Promise.all(opened.map((handle) => handle.close().catch(() => undefined)));
  }
}

/** The code of a fault, as an error carries it. */
export function causeOf(error: unknown): string | undefined {
  const cause = error instanceof Error ? error.cause : undefined;
  return systemErrorCode(error) ?? (cause === undefined ? undefined : causeOf(cause));
}
