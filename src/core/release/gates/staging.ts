import { replaces } from '../../ledger/entries/staged';
import type { StagedComponent } from '../../ledger/facts';
import type { PlacedComponent } from '../../ledger/release';
import type { Gate } from './gate';

/**
 * A platform of a commit is staged once: a job that built another one than it should, or built from
 * something else, would silently take the place of the job that did it right. A build that has failed
 * since may be staged anew.
 */
export function stagedOnce(
  part: Pick<PlacedComponent, 'component' | 'digest' | 'platforms'>,
  staged: StagedComponent | undefined,
  { replace }: { readonly replace: boolean },
): Gate {
  const gate = 'staged-once';
  const others = staged?.failed === undefined ? (staged?.parts ?? []) : [];
  const other = others.find((each) => each.digest !== part.digest && replaces(part, each));
  if (other === undefined || replace) {
    return {
      gate,
      outcome: 'met',
      detail: other === undefined ? 'nothing else stands there' : 'it is replaced on purpose',
    };
  }
  return {
    gate,
    outcome: 'unmet',
    code: 'staged-otherwise',
    what: 'something else is staged there',
    object: [part.component, ...part.platforms].join(' '),
    detail: `${other.digest} was staged for ${other.platforms.join(', ') || 'it'}, and this is ${part.digest}`,
    remedy: 'see that this job built what it should; --replace puts this in the place of the other',
  };
}
