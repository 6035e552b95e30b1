import { HodError } from '../core/errors';
import { parseRepository } from '../core/oci/reference';
import { commitsBehind, identifyMentions, productInView } from '../inspect/identify';
import { inspectReference, type Shown } from '../inspect/show';
import type { FoundInProduct } from '../results/identify';
import { toShowResult, type ShowResult } from '../results/show';
import { readTrust } from '../workspace/trust';
import { tellingRemovals, withLedger } from '../session/open-ledger';
import { withProductIfAny, type Session, type SessionOptions } from '../session/session';
import { namesRegistry, type Config } from '../workspace/config';

/** What `show` is told. */
export interface ShowOptions extends SessionOptions {
  /** A reference, or a path of a build output. */
  reference: string;
  /** The platform that is shown in full. */
  platform?: string | undefined;
  /** Read every layer. */
  deep?: true | undefined;
}

/** Which release of the product something in one of its repositories is. What is shown does not depend on a ledger that can be read. */
async function releaseOfContent(
  { repository, manifest: { digest } }: Shown,
  config: Config,
  session: Session,
): Promise<FoundInProduct | undefined> {
  // Nobody waits for a ledger to learn that it does not know another's image.
  if (repository === undefined || !namesRegistry(config, parseRepository(repository).registry)) {
    return undefined;
  }
  const mention = { text: digest, digest, repository, sureness: 'certain' } as const;
  try {
    return await withLedger(config, session, 'read', async (ledger) => {
      const [found] = await identifyMentions([{ mention, times: 1 }], {
        ...{ config, ledger },
        inView: await productInView({ config, ledger }),
      });
      return found?.at === undefined
        ? undefined
        : { product: config.product, found, commitsBehind: await commitsBehind([found], config) };
    });
  } catch (error) {
    if (!(error instanceof HodError)) {
      throw error;
    }
    session.observer.note(`its release is unknown: ${error.message}`);
    return undefined;
  }
}

/** What one image or index is: its digest, its platforms, how large they are, how they run. */
export async function show({ reference, platform, deep: isDeep, ...options }: ShowOptions): Promise<ShowResult> {
  const deep = isDeep === true;
  return withProductIfAny(options, async (config, session) => {
    const trust = config && (await readTrust(config));
    const shown = await tellingRemovals(config, session, () =>
      inspectReference(reference, { platform, deep, trust }, session),
    );
    const release = config && (await releaseOfContent(shown, config, session));
    return toShowResult(shown, { deep, release });
  });
}
