import { availableParallelism } from 'node:os';
import { Worker } from 'node:worker_threads';
import * as z from 'zod';
import { algorithmOf, digestFromHex, digestHasher, type Digest, type DigestHasher } from '../core/oci/digest';
import { WorkThread } from '../system/threads';

/** Bytes that a thread is given at a time: as many as are read at a time. */
const slotSize = 512 * 1024;

/**
 * What a thread does: hashes what it is told lies in shared memory, and says so. A text, so that it needs no
 * file of its own beside the program.
 */
const thread = `
const { parentPort } = require('node:worker_threads');
const { createHash } = require('node:crypto');
const hashes = new Map();
parentPort.on('message', ({ id, algorithm, memory, length, end }) => {
  const hash = hashes.get(id) ?? createHash(algorithm);
  hashes.set(id, hash);
  if (memory !== undefined) {
    hash.update(new Uint8Array(memory, 0, length));
  }
  if (end) {
    hashes.delete(id);
  }
  parentPort.postMessage(end ? hash.digest('hex') : undefined);
});
`;

/** The digits of a hash, at its end. */
const answerSchema = z.string().optional();
type HashAnswer = z.infer<typeof answerSchema>;

/** Hashes in threads of their own, over shared memory, where there are processors for them. */
export class HashThreads {
  private readonly threads: WorkThread<HashAnswer>[] = [];
  private count = 0;

  /** @param most So many are busy at once at most. */
  constructor(private readonly most: number) {}

  /** A hasher for the algorithm that `like` names. */
  hasher(like: Digest): DigestHasher {
    const free = Math.min(this.most, availableParallelism() - 1);
    if (free < 1) {
      return digestHasher(like);
    }
    const at = this.count % free;
    this.count += 1;
    const chosen = (this.threads[at] ??= new WorkThread(new Worker(thread, { eval: true }), answerSchema));
    return new ThreadHasher(chosen, this.count, like);
  }

  /** Ends the threads. */
  async close(): Promise<void> {
    await Promise.all(this.threads.map((each) => each.end()));
  }
}

/** Fills one of two pieces of memory while the thread hashes the other. */
class ThreadHasher implements DigestHasher {
  private filling = new Uint8Array(new SharedArrayBuffer(slotSize));
  private other = new Uint8Array(new SharedArrayBuffer(slotSize));
  private filled = 0;
  /** Until the other piece may be filled. */
  private busy: Promise<unknown> = Promise.resolve();

  constructor(
    private readonly thread: WorkThread<HashAnswer>,
    private readonly id: number,
    private readonly like: Digest,
  ) {}

  async update(bytes: Uint8Array): Promise<void> {
    for (let at = 0; at < bytes.length;) {
      const part = bytes.subarray(at, at + slotSize - this.filled);
      this.filling.set(part, this.filled);
      this.filled += part.length;
      at += part.length;
      if (this.filled === slotSize) {
        await this.busy;
        this.busy = this.give(false);
        // Whoever waits for it next is told of its failure.
        this.busy.catch(() => undefined);
        [this.filling, this.other] = [this.other, this.filling];
        this.filled = 0;
      }
    }
  }

  async digest(): Promise<Digest> {
    await this.busy;
    return digestFromHex((await this.give(true)) ?? '', this.like);
  }

  private give(end: boolean): Promise<string | undefined> {
    const algorithm = algorithmOf(this.like);
    return this.thread.ask({ id: this.id, algorithm, memory: this.filling.buffer, length: this.filled, end });
  }
}
