import { parentPort } from 'node:worker_threads';
import { deflateBlock } from './deflate';
import { workSchema } from './work';

// What a thread does: compresses what it is given, one block after the other, and gives it back.
parentPort?.on('message', (message: unknown) => {
  const { block, before, last } = workSchema.parse(message);
  const bytes = Uint8Array.from(deflateBlock(block, { before, last }));
  parentPort?.postMessage(bytes, [bytes.buffer]);
});
