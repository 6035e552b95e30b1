import { History } from '../workspace/git';
import type { Orders } from './delivery';

/** What git tells of the order of builds, where no next version is asked for. */
export function commitOrders(folder: string): Orders {
  const history = new History(folder);
  return {
    around: (commit, others) => history.around(commit, others),
    highest: () => Promise.resolve(undefined),
  };
}
