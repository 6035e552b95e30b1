import { readFile } from 'node:fs/promises';
import { join } from 'node:path';
import * as z from 'zod';
import type { ComponentContent } from '../core/identify/layers';
import { parseJson } from '../core/json';
import { digestSchema } from '../core/oci/digest';
import { writeFile } from '../system/write-file';
import { makeStateFolder } from './state-folder';

const schema = z.object({
  component: z.string(),
  digest: digestSchema,
  images: z.array(
    z.object({
      digest: digestSchema,
      platform: z.string().optional(),
      config: digestSchema,
      layers: z.array(digestSchema),
      diffIds: z.array(digestSchema),
    }),
  ),
});

/**
 * Reads what earlier runs read of components in registries, a line each. A digest never means other content; a line that
 * cannot be read is one that the registry is asked for again.
 */
export async function knownContents(stateFolder: string): Promise<ComponentContent[]> {
  const text = await readFile(fileIn(stateFolder), 'utf8').catch(() => '');
  return text.split('\n').flatMap((line) => schema.safeParse(parseJson(Buffer.from(line)) ?? null).data ?? []);
}

/** Keeps them for the next run. What cannot be written costs the next run time, nothing else. */
export async function keepContents(stateFolder: string, contents: readonly ComponentContent[]): Promise<void> {
  await makeStateFolder(stateFolder);
  const lines = contents.map((each) => `${JSON.stringify(each)}\n`);
  await writeFile(fileIn(stateFolder), lines.join(''), { soon: true }).catch(() => undefined);
}

function fileIn(stateFolder: string): string {
  return join(stateFolder, 'contents.jsonl');
}
