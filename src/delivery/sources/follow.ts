import { join, relative, resolve } from 'node:path';
import { setTimeout as delay } from 'node:timers/promises';
import type { PathPlace } from '../../core/build/output-place';
import { HodError } from '../../core/errors';
import { parseOutputLocation } from '../../archive/output-images';
import { readSmallFile } from '../../system/plain-files';
import { markOf } from './outputs';
import {
  appendStaging,
  describeStaged,
  stageOutputs,
  type PlacedOutput,
  type StageContext,
  type StagedOutput,
} from './staging';

/** How a build says that it has ended: it writes its commit into one of these files. */
const endFiles = { succeeded: 'build-succeeded', failed: 'build-failed' } as const;
/** How often the folder is looked at, in milliseconds. */
const lookEvery = 200;
const usualWait = 60 * 60 * 1000;

/**
 * Stages the outputs that a build writes into a folder, each as soon as it is complete, until the
 * build says how it ended. An output that changes again is staged again.
 *
 * Throws `missing` where the build failed, or ends without all outputs, or does not end in time.
 */
export async function follow(
  folder: string,
  all: readonly PlacedOutput[],
  wait: number | undefined,
  context: StageContext,
): Promise<StagedOutput[]> {
  const { session, build } = context;
  const outputs = new FollowedOutputs(outputsIn(folder, all), context);
  const deadline = performance.now() + (wait ?? usualWait);
  let told = '';
  for (;;) {
    const end = await readEnd(folder, build.commit);
    if (end === 'failed') {
      throw await outputs.failed(`${join(folder, endFiles.failed)} says that the build failed`);
    }
    await outputs.stageNew({ last: end === 'succeeded' });
    if (end === 'succeeded') {
      return outputs.all();
    }
    if (end !== undefined && end.says !== told) {
      told = end.says;
      session.observer.note(told);
    }
    if (performance.now() > deadline) {
      throw new HodError('build-without-end', {
        what: 'the build did not report its end',
        object: resolve(folder),
        why: `neither ${endFiles.succeeded} nor ${endFiles.failed} came with the commit in it${told === '' ? '' : `; ${told}`}`,
        next: `let the build end with: git rev-parse HEAD > ${join(folder, endFiles.succeeded)}`,
      });
    }
    await delay(lookEvery);
  }
}

/** A build output that a build is to write here. */
interface FollowedOutput extends PlacedOutput {
  readonly place: PathPlace;
}

/** The outputs of a build that is followed. */
class FollowedOutputs {
  private readonly staged = new Map<FollowedOutput, { signature: string; results: StagedOutput[] }>();
  private readonly seen = new Map<FollowedOutput, string>();

  constructor(
    private readonly outputs: readonly FollowedOutput[],
    private readonly context: StageContext,
  ) {}

  /** Stages what stands as it did when it was last looked at; after the build has ended, everything. */
  async stageNew({ last }: { readonly last: boolean }): Promise<void> {
    for (const output of this.outputs) {
      const signature = markOf(parseOutputLocation(output.place.path).path);
      const steady = signature !== undefined && (last || signature === this.seen.get(output));
      this.seen.set(output, signature ?? '');
      if (!steady || this.staged.get(output)?.signature === signature) {
        continue;
      }
      try {
        const results = await stageOutputs([output], this.context);
        this.staged.set(output, { signature, results });
        results.forEach((result) => this.context.session.observer.note(describeStaged(result)));
      } catch (error) {
        // While the build runs, an output may be half written, or one that an older build left.
        const early = error instanceof HodError && ['missing', 'corrupt', 'refused'].includes(error.fault);
        if (!early || last) {
          throw error;
        }
      }
    }
  }

  /** What was staged of a build that succeeded. Throws `build-incomplete` where outputs are missing. */
  all(): StagedOutput[] {
    refuseAbsent(this.outputs.filter((output) => !this.staged.has(output)));
    return [...this.staged.values()].flatMap(({ results }) => results);
  }

  /** Records that the build failed. Answers the error that says so. */
  async failed(reason: string): Promise<HodError> {
    const components = [...new Set(this.outputs.map(({ component }) => component.name))];
    const { build, dryRun } = this.context;
    if (!dryRun) {
      await appendStaging({ kind: 'failed', commit: build.commit, components, reason }, [], this.context, () => false);
    }
    return new HodError('followed-build-failed', {
      what: 'the build failed',
      object: components.join(', '),
      why: reason,
      next: 'see why in its log, and build again; nothing was tagged',
    });
  }
}

function outputsIn(folder: string, all: readonly PlacedOutput[]): FollowedOutput[] {
  const inside = all.flatMap(({ component, place }) => {
    if (place.kind !== 'path') {
      return [];
    }
    const way = relative(resolve(folder), resolve(parseOutputLocation(place.path).path));
    return way !== '' && !way.startsWith('..') ? [{ component, place }] : [];
  });
  if (inside.length === 0) {
    throw new HodError('nothing-to-follow', {
      what: 'no build output is expected here',
      object: resolve(folder),
      why: 'no `from:` in hod.yaml leads into this folder',
      next: 'name the folder that the build writes to',
    });
  }
  return inside;
}

function refuseAbsent(absent: readonly FollowedOutput[]): void {
  if (absent.length > 0) {
    throw new HodError('build-incomplete', {
      what: 'the build succeeded, but outputs are missing',
      object: absent.map(({ component, place }) => `${component.name}: ${place.path}`),
      why: 'they are not there',
      next: 'let the build write them, or correct `from:` in hod.yaml; nothing was tagged',
    });
  }
}

/** How a build ended; undefined while it runs. `says`: a file is there that is about another build. */
async function readEnd(folder: string, commit: string): Promise<'succeeded' | 'failed' | { says: string } | undefined> {
  let other: { says: string } | undefined;
  for (const end of ['failed', 'succeeded'] as const) {
    const file = join(folder, endFiles[end]);
    const text = await readSmallFile(file).then(String, () => undefined);
    const named = text?.trim().split(/\s/)[0] ?? '';
    if (named.length >= 7 && commit.startsWith(named)) {
      return end;
    }
    if (text !== undefined) {
      const names = named === '' ? 'names no commit' : `names ${named.slice(0, 40)}`;
      other = { says: `${file} ${names}, not ${commit}: skipped` };
    }
  }
  return other;
}
