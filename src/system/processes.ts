import { readlink } from 'node:fs/promises';
import { hostname } from 'node:os';
import { systemErrorCode } from '../core/errors';

/** Names the machine or container within which process numbers tell processes apart. */
export async function processSpace(): Promise<string> {
  const namespace = await readlink('/proc/self/ns/pid').catch(() => '');
  return `${hostname()} ${namespace}`;
}

/** Whether a process of this machine or container is there. */
export function isAlive(pid: number): boolean {
  try {
    process.kill(pid, 0);
    return true;
  } catch (error) {
    return systemErrorCode(error) === 'EPERM';
  }
}
