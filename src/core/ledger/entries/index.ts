import * as z from 'zod';
import { Facts, stateKey, type FactKey } from '../facts';
import type { Circumstances } from './action';
import { adopted } from './adopted';
import { announced } from './announced';
import { compacted } from './compacted';
import { baseMoved } from './base-moved';
import { laterReferrers } from './later-referrers';
import { entriesAccepted } from './entries-accepted';
import { failed } from './failed';
import { moved } from './moved';
import { promoted } from './promoted';
import { published } from './published';
import { refused } from './refused';
import { removed } from './removed';
import { removing } from './removing';
import { result } from './result';
import { returned } from './returned';
import { restored } from './restored';
import { rolledBack } from './rolled-back';
import { rulesAccepted } from './rules-accepted';
import { signedOff } from './signed-off';
import { staged } from './staged';

/** Every kind of entry: a new one is a file of its own, and a line here. */
const kinds = [
  published,
  promoted,
  adopted,
  rolledBack,
  restored,
  moved,
  result,
  signedOff,
  staged,
  failed,
  laterReferrers,
  refused,
  baseMoved,
  rulesAccepted,
  entriesAccepted,
  removing,
  removed,
  returned,
  compacted,
  announced,
] as const;
const [first, ...others] = kinds;

/** What happened: the part of an entry that says so. */
export const actionSchema = z.discriminatedUnion('kind', [first.schema, ...others.map(({ schema }) => schema)]);

export type Action = z.infer<typeof actionSchema>;

/** The facts that {@link foldAction} reads for an action. */
export function factsReadBy(action: Action): FactKey[] {
  return [stateKey, ...kinds.flatMap((kind) => kind.reads(action) ?? [])];
}

/** The facts that an action sets. `before` holds at least those named by {@link factsReadBy}. */
export function foldAction(action: Action, circumstances: Circumstances, before: Facts): Facts {
  const after = new Facts();
  kinds.forEach((kind) => kind.fold(action, circumstances, before, after));
  return after;
}
