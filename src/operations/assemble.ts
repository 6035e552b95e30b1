import { assemble, type Assembly } from '../delivery/assemble';
import { toAssembleResult, type AssembleResult } from '../results/assemble';
import { withoutProduct, type SessionOptions } from '../session/session';

/** What `assemble` is told. */
export interface AssembleOptions extends SessionOptions, Assembly {
  dryRun?: true | undefined;
}

/** Makes one index of images that were built for different platforms, or changes one. */
export async function assembleImages(options: AssembleOptions): Promise<AssembleResult> {
  const dryRun = options.dryRun === true;
  return withoutProduct(options, async (session) =>
    toAssembleResult(await assemble(options, { session, dryRun }), { dryRun }),
  );
}
