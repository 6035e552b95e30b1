import { laneTagsToRead, lanesToRead, linesIn, type ServedLine } from '../core/insight/lines';
import type { Head } from '../core/ledger/entry';
import { servedIn } from '../core/ledger/environment';
import type { FactKey, ServedComponent } from '../core/ledger/facts';
import type { Ledger } from '../ledger/ledger';

/** What an environment serves: by its own tags, and on lines and followed branches beside that. */
export interface Serving {
  readonly environment: string;
  readonly components: readonly ServedComponent[];
  readonly lines: readonly ServedLine[];
}

/** Reads what environments serve, in their order, and as of which entry. */
export async function readServing(
  environments: readonly string[],
  ledger: Pick<Ledger, 'read'>,
): Promise<{ readonly head: Head; readonly serving: readonly Serving[] }> {
  const own = environments.map((key): FactKey => ({ kind: 'environment', key }));
  const first = await ledger.read(own);
  const lanes = environments.flatMap((environment) => lanesToRead(environment, first.facts));
  // Both as of one moment: what heads a lane is compared with what is served.
  const { head, facts } = lanes.length === 0 ? first : await ledger.read([...own, ...lanes]);
  const tags = environments.flatMap((environment) => laneTagsToRead(environment, facts));
  const known = tags.length === 0 ? facts : (await ledger.read(tags)).facts;
  const serving = environments.map((environment) => ({
    environment,
    components: servedIn(facts, environment),
    lines: linesIn(environment, facts, known),
  }));
  return { head, serving };
}
