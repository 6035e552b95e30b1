import fc from 'fast-check';
import { HodError } from '../../src/core/errors';

/** A model that random worlds are compared with. */
export interface Model {
  readonly name: string;
  /** Plays the world of a seed. Throws where it is not as the model says. */
  play(seed: WorldSeed): Promise<void>;
  /** Throws where the worlds that were played so far did not show everything that can happen. */
  expectCovered(): void;
}

/** Names a world: the seed that it is made of, and which of its worlds it is. */
export interface WorldSeed {
  readonly seed: number;
  readonly path?: string;
}

/** Makes a model of a property that plays one world. */
export function modelOf<T extends [unknown, ...unknown[]]>(
  name: string,
  world: fc.IAsyncPropertyWithHooks<T>,
  expectCovered: () => void = () => undefined,
): Model {
  return {
    name,
    expectCovered,
    play: async ({ seed, path = '0' }) => {
      // What fails has dozens of events, and would be made smaller for hours.
      const { errorInstance } = await fc.check(world, { seed, path, numRuns: 1, endOnFailure: true });
      if (errorInstance !== null) {
        throw errorInstance instanceof Error
          ? errorInstance
          : new Error('something else than an error was thrown', { cause: errorInstance });
      }
    },
  };
}

/** Answers the code of what stopped some work, or that it is done. Throws what is not expected to stop it. */
export async function outcome(
  work: Promise<unknown>,
  isExpected: (error: HodError) => boolean = () => true,
): Promise<string> {
  try {
    await work;
    return 'done';
  } catch (error) {
    if (error instanceof HodError && isExpected(error)) {
      return error.code;
    }
    throw error;
  }
}
