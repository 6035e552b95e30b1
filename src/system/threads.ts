import type { Transferable, Worker } from 'node:worker_threads';
import type * as z from 'zod';

interface Waiting<Answer> {
  readonly resolve: (answer: Answer) => void;
  readonly reject: (error: Error) => void;
}

/** A thread that is given work and answers each piece of it, in the order in which it was given. It keeps no program alive. */
export class WorkThread<Answer> {
  private readonly waiting: Waiting<Answer>[] = [];
  private ended: Error | undefined;

  constructor(
    private readonly worker: Worker,
    answer: z.ZodType<Answer>,
  ) {
    worker.unref();
    worker.on('message', (message: unknown) => {
      this.waiting.shift()?.resolve(answer.parse(message));
    });
    // One that dies, for want of memory say, fails those that wait, and not the program.
    worker.on('error', (error) => this.fail(error));
    worker.on('exit', (code) => this.fail(new Error(`a thread ended (${code})`)));
  }

  /** Gives work to the thread; `transfer`: memory that is the thread's from then on. Rejects where the thread has ended. */
  ask(work: object, transfer: readonly Transferable[] = []): Promise<Answer> {
    return new Promise((resolve, reject) => {
      if (this.ended !== undefined) {
        reject(this.ended);
        return;
      }
      this.waiting.push({ resolve, reject });
      this.worker.postMessage(work, transfer);
    });
  }

  /** Ends the thread. */
  async end(): Promise<void> {
    await this.worker.terminate();
  }

  private fail(error: Error): void {
    this.ended ??= error;
    this.waiting.splice(0).forEach(({ reject }) => reject(error));
  }
}
