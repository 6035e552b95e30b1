import { availableParallelism } from 'node:os';
import { join } from 'node:path';
import { Worker } from 'node:worker_threads';
import type { BlockCompressor } from './gzip';
import { WorkThread } from '../../system/threads';
import { workDoneSchema, type WorkDone } from './work';

/** More threads would wait for the one that reads. */
const mostThreads = 8;

/** Compresses blocks in threads, as many as there are processors. */
export class DeflateThreads {
  private readonly threads: WorkThread<WorkDone>[] = [];
  private given = 0;
  private readonly count = Math.min(availableParallelism(), mostThreads);
  /** So many blocks at once keep all threads busy. */
  readonly atOnce = 2 * this.count;

  /** Gives a block to the next thread; its memory is the thread's then. */
  readonly compress: BlockCompressor = (block, { before, last }) => {
    const at = this.given % this.count;
    this.given += 1;
    return (this.threads[at] ??= deflateThread()).ask({ block, before, last }, [block.buffer]);
  };

  /** Ends the threads. */
  async close(): Promise<void> {
    await Promise.all(this.threads.map((each) => each.end()));
  }
}

function deflateThread(): WorkThread<WorkDone> {
  // Built beside the program: see scripts/build.mjs.
  return new WorkThread(new Worker(join(__dirname, 'deflate-thread.js')), workDoneSchema);
}
