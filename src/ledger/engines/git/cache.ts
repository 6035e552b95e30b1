import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync } from 'node:fs';
import { join } from 'node:path';
import * as z from 'zod';
import { parseJson } from '../../../core/json';
import { digestSchema, sha256 } from '../../../core/oci/digest';
import { writeFile } from '../../../system/write-file';
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
    await writeFile(this.file, JSON.stringify({ commit: id, seq, hash })).catch(() => undefined);
  }
}

/** A folder of objects with more files than this is given up for a new one, as git would tidy it up (gc.auto, gc.autoPackLimit). */
const crowded = { packs: 50, loose: 6_700 };
/** How long a folder that was given up is kept, in milliseconds: runs that began with it are over by then. */
const keptFor = 24 * 60 * 60 * 1000;

/** Finds the folder in which a clone keeps the objects that were fetched. Undefined where nothing can be kept. */
export function objectsFolder(cache: string): string | undefined {
  try {
    mkdirSync(cache, { recursive: true });
    const numbers = readdirSync(cache).flatMap((name) => /^objects-(\d+)$/.exec(name)?.slice(1).map(Number) ?? []);
    const last = Math.max(1, ...numbers);
    const folderOf = (number: number): string => join(cache, `objects-${number}`);
    numbers
      .filter((number) => number !== last && Date.now() - statSync(folderOf(number)).mtimeMs > keptFor)
      .forEach((number) => rmSync(folderOf(number), { recursive: true, force: true }));
    return folderOf(isCrowded(folderOf(last)) ? last + 1 : last);
  } catch {
    return undefined;
  }
}

function isCrowded(folder: string): boolean {
  const files = (name: string): string[] => (existsSync(join(folder, name)) ? readdirSync(join(folder, name)) : []);
  // Loose objects lie in 256 folders, by chance.
  const loose = files('17').length * 256;
  return loose > crowded.loose || files('pack').filter((name) => name.endsWith('.pack')).length > crowded.packs;
}
