import { describePosition } from '../../tags/ordering';
import type { Release } from '../facts';
import type { Gate } from './gate';

/** An environment takes only releases that the one before it has had. */
export function servedBefore(release: Release, from: string, to: string): Gate {
  const gate = 'served-before';
  const arrival = release.arrived.find(({ environment }) => environment === from);
  if (arrival !== undefined) {
    return { gate, outcome: 'met', detail: `served by ${from} since ${arrival.at}` };
  }
  const named = release.version === undefined ? `commit ${release.commit}` : `version ${release.version}`;
  return {
    gate,
    outcome: 'unmet',
    code: 'not-in-previous-environment',
    what: `this release has not been in ${from}`,
    object: `${describePosition(release)} to ${to}`,
    detail: `${to} takes only what ${from} has served; so far it was in ${release.arrived.map(({ environment }) => environment).join(', ')}`,
    remedy: `run \`hod promote ${from} --${named}\` first`,
  };
}
