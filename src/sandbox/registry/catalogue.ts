import { existsSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import * as z from 'zod';
import { digestSchema, type Digest } from '../../core/oci/digest';

/** What a sandbox registry knows of one repository. */
export interface StoredRepository {
  /** Blobs that may be read through it. */
  blobs: Set<Digest>;
  /** The media type of each manifest; their bytes are kept as blobs. */
  manifests: Map<Digest, string>;
  tags: Map<string, Digest>;
}

/** The repositories of a sandbox registry, by name. */
export interface Catalogue {
  readonly repositories: Map<string, StoredRepository>;
  /** Keeps the present state, where it outlives the process. */
  save(): void;
}

const fileSchema = z.record(
  z.string(),
  z.object({
    blobs: z.array(digestSchema),
    manifests: z.array(z.tuple([digestSchema, z.string()])),
    tags: z.array(z.tuple([z.string(), digestSchema])),
  }),
);

/** A catalogue in memory, or in a file of `folder` from which it is read back. */
export function openCatalogue(folder: string | undefined): Catalogue {
  const repositories = new Map<string, StoredRepository>();
  if (folder === undefined) {
    return { repositories, save: () => undefined };
  }
  const file = join(folder, 'repositories.json');
  if (existsSync(file)) {
    for (const [name, repository] of Object.entries(fileSchema.parse(JSON.parse(readFileSync(file, 'utf8'))))) {
      repositories.set(name, {
        blobs: new Set(repository.blobs),
        manifests: new Map(repository.manifests),
        tags: new Map(repository.tags),
      });
    }
  }
  return {
    repositories,
    save() {
      const plain = [...repositories].map(([name, repository]) => [
        name,
        { blobs: [...repository.blobs], manifests: [...repository.manifests], tags: [...repository.tags] },
      ]);
      writeFileSync(`${file}.new`, JSON.stringify(Object.fromEntries(plain)));
      renameSync(`${file}.new`, file);
    },
  };
}
