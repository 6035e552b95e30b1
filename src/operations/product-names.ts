import { HodError } from '../core/errors';
import { servedIn } from '../core/ledger/environment';
import { eventIn } from '../core/insight/timeline';
import { withLedger } from '../session/open-ledger';
import { configIfAny, withSession } from '../session/session';
import type { Config } from '../workspace/config';

/** How far back versions are looked for, in entries. */
const lookBack = 500;

/** The names of environments, of components, and of versions of the product that is here; none where there is none. */
export async function productNames(): Promise<{ environments: string[]; components: string[]; versions: string[] }> {
  try {
    const config = await configIfAny({});
    return config === undefined
      ? { environments: [], components: [], versions: [] }
      : {
          environments: config.environments.map(({ name }) => name),
          components: config.components.map(({ name }) => name),
          versions: await versionsOf(config),
        };
  } catch (error) {
    // Who types wants no message in between.
    if (error instanceof HodError) {
      return { environments: [], components: [], versions: [] };
    }
    throw error;
  }
}

/** The latest versions. A ledger elsewhere is not asked while somebody types. */
async function versionsOf(config: Config): Promise<string[]> {
  if (!('file' in config.ledger)) {
    return [];
  }
  return withSession(config, {}, (session) =>
    withLedger(config, session, 'read', async (ledger) => {
      const { head, facts } = await ledger.read(
        config.environments.map(({ name }) => ({ kind: 'environment', key: name })),
      );
      const versions = new Set<string>(
        config.environments.flatMap(({ name }) => servedIn(facts, name).flatMap(({ version }) => version ?? [])),
      );
      const begin = Math.max(0, head.seq - lookBack);
      for await (const sealed of ledger.entries({ seq: begin, hash: undefined })) {
        const version = eventIn(sealed)?.version;
        if (version !== undefined) {
          versions.add(version);
        }
      }
      return [...versions];
    }),
  );
}
