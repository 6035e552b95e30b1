import { existsSync } from 'node:fs';
import { mkdir } from 'node:fs/promises';
import { basename, dirname, relative, resolve } from 'node:path';
import { outputImages } from '../archive/output';
import { HodError, messageOf, systemErrorCode } from '../core/errors';
import { firstConfig, firstEnvironments, firstImages, repositoryIn, type FoundImage } from '../core/first-config';
import { platformsOf, readContent } from '../core/oci/content';
import { usualVersionTags, versionOfTag } from '../core/tags/version-tags';
import { parseRepository } from '../core/oci/reference';
import type { InitResult } from '../results/init';
import { packedLayers } from '../workspace/user-memory';
import { writeFile } from '../system/write-file';
import { isCiAtWork } from '../workspace/ci-at-work';
import { configName } from '../workspace/config';
import { readClone } from '../workspace/git';
import { hasCiFiles, likelyOutputs } from '../workspace/surroundings';

/** What `init` is told. */
export interface InitOptions {
  /** The file to write. */
  config?: string | undefined;
  /** The registry that releases go to, with a path where it has one; `{environment}` and `{image}` may stand in it. */
  registry?: string | undefined;
  dryRun?: true | undefined;
}

/** Writes the first hod.yaml for what is here, and nothing else. Throws `config-exists` where there is one. */
export async function init(options: InitOptions): Promise<InitResult> {
  const file = resolve(options.config ?? configName);
  const folder = dirname(file);
  const dryRun = options.dryRun === true;
  const registry = options.registry?.replace(/\/+$/, '');
  if (registry !== undefined) {
    // Throws where it is no place for a repository.
    parseRepository(repositoryIn(registry, 'dev').replaceAll('{image}', 'image'));
  }
  const [clone, images] = await Promise.all([readClone(folder), findImages(folder)]);
  const ciFound = hasCiFiles(folder);
  const shared = ciFound || isCiAtWork() ? clone.remote : undefined;
  const names = firstImages(images).map(({ name }) => name);
  const tagged = registry === undefined || existsSync(file) ? [] : await environmentsWithTags(registry, names);
  const { text, ...made } = firstConfig(
    {
      name: repositoryName(clone.remote?.url) ?? basename(folder),
      images,
      branch: clone.branch,
      remote: shared?.name,
      registry,
      tagged,
      versioned: clone.tags.some((tag) => versionOfTag(usualVersionTags, tag) !== undefined),
      git: clone.state,
    },
    relative(process.cwd(), file),
  );
  if (!dryRun) {
    await writeNew(file, text);
  }
  return {
    file: relative(process.cwd(), file),
    ...made,
    images: made.images.map((image) => ({ ...image, from: [...image.from], platforms: [...image.platforms] })),
    environments: [...made.environments],
    next: [...made.next],
    ledger: shared === undefined ? 'a file' : `the git remote ${shared.name}`,
    ciFound,
    registry: registry ?? null,
    lines: text.trimEnd().split('\n'),
    dryRun,
  };
}

/** The environments whose repositories have tags already. A registry that does not answer soon has none. */
async function environmentsWithTags(place: string, images: readonly string[]): Promise<string[]> {
  const { withoutProduct } = await import('../session/session');
  const { brief } = await import('../inspect/status');
  return withoutProduct({ patience: brief }, async (session) => {
    const found = await Promise.all(
      firstEnvironments.map(async (environment) => {
        const repositories = images.map((image) => repositoryIn(place, environment).replaceAll('{image}', image));
        const tagged = await Promise.all(
          repositories.map((repository) => hasTags(session.client(parseRepository(repository)))),
        );
        return tagged.includes(true) ? [environment] : [];
      }),
    );
    return found.flat();
  });
}

/** Whether a repository has a tag, as far as this user may know. */
async function hasTags({ tags }: { tags: { list(): AsyncIterable<string> } }): Promise<boolean> {
  try {
    for await (const _ of tags.list()) {
      return true;
    }
    return false;
  } catch (error) {
    if (error instanceof HodError) {
      return false;
    }
    throw error;
  }
}

/** The last part of the path of a remote. Nothing else of its address, which may hold a login. */
function repositoryName(url: string | undefined): string | undefined {
  const path = url === undefined ? '' : URL.canParse(url) ? new URL(url).pathname : url.replace(/^[^/]*:/, '');
  return basename(path.replace(/(\.git)?\/*$/, '')) || undefined;
}

/** The images of all build outputs below a folder; what is none is passed by. */
async function findImages(folder: string): Promise<FoundImage[]> {
  const found: FoundImage[] = [];
  // They are looked at, and not published: nothing is compressed.
  const packing = { compression: 'none' as const, known: packedLayers, note: () => undefined };
  for (const path of await likelyOutputs(folder)) {
    try {
      const images = await outputImages(resolve(folder, path), packing);
      for (const image of images) {
        const { source, root } = await image.open();
        const platforms = await platformsOf(await readContent(source, root));
        // Without its tag, which another build does not have.
        const name = images.length > 1 ? image.names.at(-1) : undefined;
        if (platforms.length > 0 && (images.length === 1 || name !== undefined)) {
          found.push({ path, name, platforms });
        }
      }
    } catch (error) {
      if (!(error instanceof HodError)) {
        throw error;
      }
    }
  }
  return found;
}

async function writeNew(file: string, text: string): Promise<void> {
  try {
    await mkdir(dirname(file), { recursive: true });
    await writeFile(file, text, { isNew: true });
  } catch (error) {
    const exists = systemErrorCode(error) === 'EEXIST';
    throw new HodError(
      exists ? 'config-exists' : 'file-unusable',
      {
        what: exists ? 'there is a configuration already' : 'the configuration cannot be written',
        object: file,
        why: exists ? 'what is in it may be in use; nothing of it was changed' : messageOf(error),
        next: exists
          ? 'run `hod config check`, or name another file with --config'
          : 'let this user write there, or name another file with --config',
      },
      { cause: error },
    );
  }
}
