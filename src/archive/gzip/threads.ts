import { availableParallelism } from 'node:os';
import { join } from 'node:path';
import { Worker } from 'node:worker_threads';
import type { BlockCompressor } from './gzip';
import { workDoneSchema } from './work';

/** More threads would wait for the one that reads. */
const mostThreads = 8;

/** Compresses blocks in threads, as many as there are processors. */
export class DeflateThreads {
  private readonly threads: DeflateThread[] = [];
  private given = 0;
  private readonly count = Math.min(availableParallelism(), mostThreads);
  /** So many blocks at once keep all threads busy. */
  readonly atOnce = 2 * this.count;

  /** Gives a block to the next thread; its memory is the thread's then. */
  readonly compress: BlockCompressor = (block, before, last) => {
    const at = this.given % this.count;
    this.given += 1;
    return (this.threads[at] ??= new DeflateThread()).compress({ block, before, last });
  };

  /** Ends the threads. */
  async close(): Promise<void> {
    await Promise.all(this.threads.map((each) => each.end()));
  }
}

interface Waiting {
  resolve: (bytes: Uint8Array) => void;
  reject: (error: unknown) => void;
}

class DeflateThread {
  // Built beside the program: see scripts/build.mjs.
  private readonly worker = new Worker(join(__dirname, 'deflate-thread.js'));
  /** It does one thing after the other: the first answer is for who asked first. */
  private readonly waiting: Waiting[] = [];

  constructor() {
    this.worker.unref();
    this.worker.on('message', (message: unknown) => {
      this.waiting.shift()?.resolve(workDoneSchema.parse(message));
    });
    this.worker.on('error', (error) => {
      this.waiting.splice(0).forEach(({ reject }) => {
        reject(error);
      });
    });
  }

  compress(work: { block: Uint8Array<ArrayBuffer>; before: Uint8Array; last: boolean }): Promise<Uint8Array> {
    return new Promise((resolve, reject) => {
      this.waiting.push({ resolve, reject });
      this.worker.postMessage(work, [work.block.buffer]);
    });
  }

  async end(): Promise<void> {
    await this.worker.terminate();
  }
}
