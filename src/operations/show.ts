import { inspectReference } from '../inspect/show';
import { toShowResult, type ShowResult } from '../results/show';
import { withoutProduct, type SessionOptions } from '../session/session';

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
  return withoutProduct(options, async (session) =>
    toShowResult(await inspectReference(reference, { platform, deep }, session), { deep }),
  );
}
