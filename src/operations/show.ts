import { inspectReference } from '../inspect/show';
import { toShowResult, type ShowResult } from '../results/show';
import { readTrust } from '../workspace/trust';
import { withProductIfAny, type SessionOptions } from '../session/session';

/** What `show` is told. */
export interface ShowOptions extends SessionOptions {
  /** A reference, or a path of a build output. */
  reference: string;
  /** The platform that is shown in full. */
  platform?: string | undefined;
  /** Read every layer. */
  deep?: true | undefined;
}

/** What one image or index is: its digest, its platforms, how large they are, how they run. */
export async function show({ reference, platform, deep: isDeep, ...options }: ShowOptions): Promise<ShowResult> {
  const deep = isDeep === true;
  return withProductIfAny(options, async (config, session) => {
    const trust = config && (await readTrust(config));
    return toShowResult(await inspectReference(reference, { platform, deep, trust }, session), { deep });
  });
}
