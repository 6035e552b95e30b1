import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import writeFileAtomic from 'write-file-atomic';
import * as z from 'zod';
import { parseJson } from '../../../core/json';
import { digestSchema, sha256 } from '../../../core/oci/digest';
import { objectIdSchema, type LedgerCommit } from './layout';

const schema = z.object({ commit: objectIdSchema, seq: z.number().int(), hash: digestSchema });
/** Where a ledger stood when it was last seen from here. */
export type Seen = z.infer<typeof schema>;

/** Remembers beside the clone where a ledger stood: what goes back behind that was rewritten. */
export class SeenFile {
  private readonly file: string;

  /** @param folder Where it is kept. @param label The ledger, as people call it. */
  constructor(folder: string, label: string) {
    this.file = join(folder, `${sha256(label).slice('sha256:'.length, 23)}.json`);
  }

  /** Where the ledger stood; undefined where it was not seen from here. */
  recall(): Seen | undefined {
    try {
      return schema.safeParse(parseJson(readFileSync(this.file)) ?? null).data;
    } catch {
      return undefined;
    }
  }

  /** Keeps where the ledger stands, where it can be kept. */
  async remember({ id, state: { seq, hash } }: LedgerCommit): Promise<void> {
    await writeFileAtomic(this.file, JSON.stringify({ commit: id, seq, hash })).catch(() => undefined);
  }
}

/** Makes the folder in which a clone keeps what was fetched, so that git takes no notice of it. Answers whether it can be written. */
export function makeFolder(folder: string): boolean {
  try {
    mkdirSync(folder, { recursive: true });
    writeFileSync(join(folder, '.gitignore'), '*\n');
    return true;
  } catch {
    return false;
  }
}
