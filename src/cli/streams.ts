import { fstatSync } from 'node:fs';
import { HodError, messageOf, systemErrorCode } from '../core/errors';
import { writeAll } from '../system/write-all';

/** Makes a reader that goes away harmless: whoever writes is told, and nobody else. */
export function outliveReaders(): void {
  for (const stream of [process.stdout, process.stderr]) {
    stream.on('error', () => undefined);
  }
}

/** Writes to standard output. Answers why it could not, once all of it was taken or some of it was not. */
function write(text: string): Promise<Error | undefined> {
  const { fd } = process.stdout;
  if (fstatSync(fd).isFile()) {
    // Node.js does not look at how much of it a file took.
    try {
      writeAll(fd, Buffer.from(text));
      return Promise.resolve(undefined);
    } catch (error) {
      return Promise.resolve(error instanceof Error ? error : new Error(String(error)));
    }
  }
  return new Promise((resolve) => {
    process.stdout.write(text, (error) => resolve(error ?? undefined));
  });
}

/** Prints a text for people; nothing where there is none, not even a line. That its reader has seen enough, as `head` may, is no failure. */
export async function print(text: string): Promise<void> {
  const error = text === '' ? undefined : await write(`${text}\n`);
  if (error !== undefined && systemErrorCode(error) !== 'EPIPE') {
    throw unwritable(error);
  }
}

/** Prints a document for programs: whole, or it is a failure. */
export async function printDocument(line: string): Promise<void> {
  const error = await write(`${line}\n`);
  if (error !== undefined) {
    throw unwritable(error);
  }
}

function unwritable(error: Error): HodError {
  const why = systemErrorCode(error) === 'EPIPE' ? 'the reader closed the pipe' : messageOf(error);
  return new HodError(
    'answer-unwritable',
    {
      what: 'the answer could not be written',
      object: 'standard output',
      why,
      next: 'the work itself was done; run the command again, it answers the same',
    },
    { cause: error },
  );
}

/** Prints a text for people that is one of many; nobody waits for it. */
export function say(text: string): void {
  process.stdout.write(`${text}\n`, () => undefined);
}

/** Prints to standard error. Where nobody reads it, nobody is told. */
export function tell(text: string): void {
  process.stderr.write(`${text}\n`, () => undefined);
}

/** How many columns an answer has room for: those of the terminal, or what COLUMNS says; undefined where nobody says. */
export function answerWidth(): number | undefined {
  const said = Number(process.env['COLUMNS']);
  return process.stdout.isTTY ? process.stdout.columns : said > 0 ? said : undefined;
}
